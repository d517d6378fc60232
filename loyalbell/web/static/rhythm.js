// The win-back line moves with its slider; choosing a part of the shop shows it.
(() => {
  "use strict";
  const slider = document.getElementById("day"), line = document.getElementById("winback");
  slider?.addEventListener("input", () => {
    const x = 44 + 660 * Math.min(1, slider.value / slider.dataset.top);
    line.setAttribute("x1", x); line.setAttribute("x2", x);
  });
  document.querySelector("[data-submits]")?.addEventListener("change", (event) => event.target.form.submit());
})();
