// On the live score a note leads to its line below.
(() => {
  "use strict";
  const lead = (event) => {
    const note = event.target.closest?.(".live-score .note");
    if (!note || (event.type === "keydown" && event.key !== "Enter")) return;
    const line = document.getElementById(`step-${note.dataset.step}`);
    line?.scrollIntoView({ block: "center" });
    line?.querySelector("a")?.focus();
  };
  document.addEventListener("click", lead);
  document.addEventListener("keydown", lead);
})();
