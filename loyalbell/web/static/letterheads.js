// Each letterhead shows a letter in it, drawn anew as it is changed.
(() => {
  "use strict";
  for (const form of document.querySelectorAll(".letterhead-form")) {
    const frame = form.querySelector("iframe");
    let view = "light", waiting = 0;
    const draw = () => {
      const asked = new URLSearchParams(new FormData(form));
      asked.delete("_csrf");
      asked.set("view", view);
      frame.src = bellPath(`/letterheads/preview?${asked}`);
    };
    form.addEventListener("input", () => { clearTimeout(waiting); waiting = setTimeout(draw, 300); });
    form.addEventListener("click", (event) => {
      const button = event.target.closest("[data-look]");
      if (!button) return;
      view = button.dataset.look;
      for (const one of form.querySelectorAll("[data-look]")) one.setAttribute("aria-pressed", String(one === button));
      draw();
    });
    draw();
  }
})();
