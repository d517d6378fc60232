// The sequence editor: every change is sent with the whole plan, and the server draws score and words again.
(() => {
  "use strict";
  const form = document.getElementById("sequence-form");
  if (!form) return;
  const rail = document.getElementById("rail"), sheet = document.getElementById("sheet");
  let focused = "";
  const redraw = (act = "") => {
    form.elements.act.value = act;
    focused = document.activeElement?.name || document.activeElement?.dataset?.step || "";
    htmx.trigger(form, "redraw");
  };
  form.addEventListener("change", (event) => { if (event.target.name) redraw(); });
  form.addEventListener("click", (event) => {
    const button = event.target.closest("[data-act]");
    if (button) return redraw(button.dataset.act);
    const say = event.target.closest("[data-say-rule]");
    if (say) return sayRule(say.dataset.sayRule);
    const step = event.target.closest(".step[data-step]");
    if (step && !event.target.closest("button, input, select, .dropdown-menu, a")) pick(step.dataset.step);
  });
  form.addEventListener("keydown", (event) => {
    if (event.key === "Enter" && event.target.matches("input")) {
      event.preventDefault();
      if (event.target.name !== "name") redraw();
    }
  });
  rail.addEventListener("rail-later", () => rail.setAttribute("aria-busy", "true"));
  document.addEventListener("htmx:afterSettle", (event) => {
    if (event.target === rail) rail.removeAttribute("aria-busy");
    if (event.target !== sheet) return;
    htmx.trigger(rail, "reread");
    const back = focused && (form.querySelector(`.note[data-step="${CSS.escape(focused)}"]`) || form.querySelector(`[name="${CSS.escape(focused)}"]`));
    const menu = back?.closest?.(".dropdown-menu");
    if (menu) bootstrap.Dropdown.getOrCreateInstance(menu.previousElementSibling).show();
    back?.focus?.({ preventScroll: true });
  });

  // picking: a note lights up its line, and the other way round
  function pick(step) {
    if (form.elements.picked.value === step) return;
    form.elements.picked.value = step;
    focused = step;
    redraw();
  }
  document.addEventListener("click", (event) => {
    const jump = event.target.closest("[data-jump-step]");
    if (!jump) return;
    const line = document.getElementById(`step-${jump.dataset.jumpStep === "again" ? "start" : jump.dataset.jumpStep}`);
    line?.scrollIntoView({ block: "center" });
    line?.querySelector(".pick")?.focus();
  });

  // notes are dragged along the line by whole days, or moved with the arrow keys
  let drag = null;
  sheet.addEventListener("pointerdown", (event) => {
    const note = event.target.closest(".note");
    if (!note) return;
    const svg = note.ownerSVGElement;
    const days = [...svg.querySelectorAll(".note")].map((one) => one.transform.baseVal[0].matrix.e);
    drag = { note, svg, start: event.clientX, scale: svg.viewBox.baseVal.width / svg.clientWidth, x: note.transform.baseVal[0].matrix.e, y: note.transform.baseVal[0].matrix.f, days, moved: 0 };
    note.setPointerCapture?.(event.pointerId);
  });
  sheet.addEventListener("pointermove", (event) => {
    if (!drag) return;
    const by = (event.clientX - drag.start) * drag.scale;
    drag.moved = Math.round(by / 24);
    drag.note.setAttribute("transform", `translate(${drag.x + drag.moved * 24} ${drag.y})`);
    const said = drag.note.querySelector("title");
    if (said && drag.moved) said.textContent = `${drag.moved > 0 ? "+" : "−"}${Math.abs(drag.moved)} days`;
  });
  sheet.addEventListener("pointerup", () => {
    if (!drag) return;
    const { note, moved } = drag;
    drag = null;
    form.elements.picked.value = note.dataset.step;
    if (moved) redraw(`shift|${note.dataset.step}|${moved}`); else redraw();
    focused = note.dataset.step;
  });
  sheet.addEventListener("keydown", (event) => {
    const note = event.target.closest?.(".note");
    if (!note) return;
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (by) { event.preventDefault(); form.elements.picked.value = note.dataset.step; redraw(`shift|${note.dataset.step}|${by}`); focused = note.dataset.step; }
    else if (event.key === "Enter" || event.key === " ") { event.preventDefault(); pick(note.dataset.step); }
  });

  // a rule said in a sentence, in the segments' own editor
  const dialog = document.getElementById("rule-dialog"), frame = dialog.querySelector("iframe");
  let about = "";
  function sayRule(name) {
    about = name;
    const held = form.elements[`${name}.rule`].value;
    frame.src = bellPath(`/segments/new?pick=1${held ? `&rule=${encodeURIComponent(held)}` : ""}`);
    dialog.showModal();
  }
  document.getElementById("rule-close").addEventListener("click", () => dialog.close());
  addEventListener("message", (event) => {
    if (event.origin !== location.origin || !event.data?.rule || !about) return;
    form.elements[`${about}.rule`].value = JSON.stringify(event.data.rule);
    const select = form.elements[about];
    const own = [...select.options].find((one) => one.value === "own");
    own.hidden = false;
    select.value = "own";
    dialog.close();
    redraw();
  });
})();
