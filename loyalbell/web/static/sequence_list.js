// The list of sequences is put in order by dragging; the arrows beside each do the same by keys.
(() => {
  "use strict";
  const body = document.querySelector(".sequence-list tbody"), form = document.getElementById("order");
  if (!body || !form) return;
  let row = null, before = "";
  const ids = () => [...body.rows].map((one) => one.dataset.sequence);
  body.addEventListener("dragstart", (event) => {
    row = event.target.closest(".drag-handle")?.closest("tr") || null;
    if (!row) return;
    before = ids().join();
    row.classList.add("dragged");
    event.dataTransfer.effectAllowed = "move";
    event.dataTransfer.setData("text/plain", row.dataset.sequence);
    event.dataTransfer.setDragImage(row, 0, 0);
  });
  body.addEventListener("dragover", (event) => {
    const over = row && event.target.closest("tr");
    if (!over) return;
    event.preventDefault();
    if (over === row) return;
    const box = over.getBoundingClientRect();
    if (event.clientY < box.top + box.height / 2) over.before(row); else over.after(row);
  });
  body.addEventListener("drop", (event) => event.preventDefault());
  body.addEventListener("dragend", () => {
    row?.classList.remove("dragged");
    row = null;
    if (ids().join() === before) return;
    for (const id of ids()) {
      const field = document.createElement("input");
      Object.assign(field, { type: "hidden", name: "sequence", value: id });
      form.append(field);
    }
    form.submit();
  });
})();
