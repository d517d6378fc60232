// The score: a note says all of itself when it is pointed at or has the focus, and the whole can be drawn larger.
(() => {
  "use strict";
  const tip = document.createElement("div");
  tip.className = "note-tip";
  tip.setAttribute("role", "status");
  tip.hidden = true;
  document.body.append(tip);
  const show = (event) => {
    const note = event.target.closest?.(".score .note");
    if (!note) { tip.hidden = true; return; }
    const words = note.querySelector("title")?.textContent.replace(/\s+/g, " ").trim() || "";
    const box = note.getBoundingClientRect();
    tip.textContent = words;
    tip.hidden = !words;
    const left = Math.min(box.left, innerWidth - tip.offsetWidth - 12);
    tip.style.left = `${Math.max(left, 8) + scrollX}px`;
    tip.style.top = `${box.bottom + scrollY + 4}px`;
  };
  document.addEventListener("focusin", show);
  document.addEventListener("focusout", () => { tip.hidden = true; });
  document.addEventListener("pointerover", show);
  document.addEventListener("pointerdown", () => { tip.hidden = true; });
  document.addEventListener("keydown", (event) => { if (event.key === "Escape") tip.hidden = true; });

  const SIZES = [100, 140, 200];
  const draw = () => {
    const size = Number(sessionStorage.getItem("score-size")) || 100;
    for (const score of document.querySelectorAll(".score-card .score")) score.style.width = `${size}%`;
    for (const button of document.querySelectorAll("[data-score-size]"))
      button.setAttribute("aria-pressed", String(Number(button.dataset.scoreSize) === size));
  };
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-score-size]");
    if (!button || !SIZES.includes(Number(button.dataset.scoreSize))) return;
    sessionStorage.setItem("score-size", button.dataset.scoreSize);
    draw();
  });
  document.addEventListener("htmx:afterSettle", draw);
  draw();
})();
