// Ticking customers: shows what can be done with the chosen, and counts them.
(() => {
  "use strict";
  const ticks = () => [...document.querySelectorAll('#many input[name="person"]')];
  function refresh() {
    const form = document.getElementById("many");
    if (!form) return;
    const chosen = ticks().filter((tick) => tick.checked).length;
    const all = form.querySelector('input[name="all"]');
    if (!chosen) all.checked = false;
    form.querySelector(".when-chosen").hidden = chosen === 0;
    const count = form.querySelector(".chosen-count");
    count.dataset.plain ??= count.textContent;
    count.textContent = chosen && !all.checked ? `${chosen} chosen` : count.dataset.plain;
    const page = document.getElementById("tick-page");
    page.checked = chosen > 0 && chosen === ticks().length;
    page.indeterminate = chosen > 0 && chosen < ticks().length;
  }
  document.addEventListener("change", (event) => {
    if (event.target.id === "tick-page") for (const tick of ticks()) tick.checked = event.target.checked;
    if (event.target.closest?.("#many")) { event.stopPropagation(); refresh(); }
  }, true);
  window.addEventListener("pageshow", refresh);
  document.addEventListener("htmx:afterSettle", refresh);
})();
