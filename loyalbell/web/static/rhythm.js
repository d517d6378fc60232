// The win-back line moves with its slider; choosing a part of the shop shows it.
(() => {
  "use strict";
  const slider = document.getElementById("day"), line = document.getElementById("winback");
  slider?.addEventListener("input", () => {
    const x = 44 + 660 * Math.min(1, slider.value / slider.dataset.top);
    line.setAttribute("x1", x); line.setAttribute("x2", x);
  });
  // cells of the grid are pressed on the picture or ticked in the list beneath; the two follow each other
  const cells = document.getElementById("cells");
  const box = (cell) => cells.querySelector(`input[value="${cell.dataset.cell}"]`);
  function follow() {
    let chosen = 0, people = 0;
    for (const cell of cells.querySelectorAll("[data-cell]")) {
      const on = box(cell).checked;
      cell.setAttribute("aria-checked", on);
      if (on) { chosen += 1; people += Number(cell.dataset.people); }
    }
    const words = `${chosen} ${chosen === 1 ? "cell" : "cells"}, ${people.toLocaleString("en")} ${people === 1 ? "person" : "people"}`;
    document.getElementById("cells-chosen").textContent = chosen ? words : "No cell pressed yet";
  }
  function press(cell) { box(cell).checked = !box(cell).checked; follow(); }
  cells?.addEventListener("click", (event) => { const cell = event.target.closest("[data-cell]"); if (cell) press(cell); });
  cells?.addEventListener("keydown", (event) => {
    if (!event.target.matches("[data-cell]") || (event.key !== " " && event.key !== "Enter")) return;
    event.preventDefault(); press(event.target);
  });
  cells?.addEventListener("change", follow);
  if (cells) follow();
  document.querySelector("[data-submits]")?.addEventListener("change", (event) => event.target.form.submit());
})();
