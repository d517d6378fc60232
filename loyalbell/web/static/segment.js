// The sentence editor: the words of "add a line" narrow its list; acts are named before the form is read.
(() => {
  "use strict";
  const form = document.getElementById("rule-form");
  if (!form) return;
  form.addEventListener("click", (event) => {
    const button = event.target.closest("[data-act]");
    if (!button) return;
    form.elements.act.value = button.dataset.act;
    htmx.trigger(form, "act");
  });
  document.addEventListener("htmx:afterRequest", (event) => {
    if (event.detail.elt !== form) return;
    // a count that was under way when somebody chose an act comes back first: their act is still to be sent
    const act = event.detail.requestConfig?.parameters?.act || "";
    if (!act) return;
    form.elements.act.value = "";
    if (act.startsWith("add")) { const places = form.querySelectorAll(".add-line"); places[places.length - 1]?.focus(); }
  });
  // in a window of another page the rule is handed to that page
  document.getElementById("use-rule")?.addEventListener("click", async () => {
    const answer = await fetch(bellPath("/segments/rule"), { method: "POST", body: new FormData(form) });
    const rule = await answer.json();
    if (answer.ok) parent.postMessage({ rule }, location.origin);
    else document.getElementById("problem").textContent = rule.problem;
  });
  // lines and groups can be dragged, also into and out of groups; the server reads the order of the page
  function draggable() {
    for (const list of form.querySelectorAll(".rule, .inner-rule")) {
      if (list.dataset.drags) continue;
      list.dataset.drags = "yes";
      Sortable.create(list, {
        group: "lines", draggable: "li:not(.fixed)", filter: "button, input, select, .dropdown-menu", preventOnFilter: false, animation: 120,
        onEnd: (event) => { if (event.from !== event.to || event.oldIndex !== event.newIndex) { form.elements.act.value = "moved"; htmx.trigger(form, "act"); } },
      });
    }
  }
  draggable();
  document.addEventListener("htmx:afterSettle", draggable);
  form.addEventListener("input", (event) => {
    if (!event.target.matches(".add-line")) return;
    const wanted = event.target.value.toLowerCase().split(/\s+/).filter(Boolean);
    let some = false;
    const list = event.target.parentElement;
    for (const item of list.querySelectorAll("[data-words]")) {
      const fits = wanted.every((word) => item.dataset.words.includes(word));
      item.parentElement.hidden = !fits;
      some = some || fits;
    }
    list.querySelector(".nothing-fits").hidden = some;
    bootstrap.Dropdown.getOrCreateInstance(event.target).show();
  });
  form.addEventListener("keydown", (event) => {
    if (event.key !== "Enter" || event.target.tagName === "BUTTON") return;
    event.preventDefault();
    if (event.target.matches(".add-line")) event.target.parentElement.querySelector("li:not([hidden]) > [data-words]")?.click();
    else if (event.target.closest(".chooser")) bootstrap.Dropdown.getInstance(event.target.closest(".dropdown").querySelector(".pick"))?.hide();
  });
})();
