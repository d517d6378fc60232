// Cutting a picture: a frame over it, moved by the mouse or by keys. The part becomes a picture of its own; the
// button that asked hears of it by the event "picture-cut".
(() => {
  "use strict";
  const byId = (id) => document.getElementById(id);
  const dialog = byId("cut-dialog"), picture = byId("cut-picture"), stage = dialog?.querySelector(".cut-stage");
  if (!dialog) return;
  let cropper = null, asker = null;
  const STEP = 0.02;

  function open(button) {
    asker = button;
    byId("cut-problem").textContent = "";
    byId("cut-shape").value = "";
    picture.onload = begin;
    picture.src = button.dataset.src;
    byId("cut-done").className = "btn btn-act"; // the one act of the page while the window is open
    dialog.showModal();
  }

  function begin() {
    cropper?.destroy();
    cropper = new Cropper(picture, {
      viewMode: 1, autoCropArea: 1, zoomable: false, checkOrientation: false, checkCrossOrigin: false, background: false,
      ready: () => stage.focus(),
      crop: () => { const { width, height } = cropper.getData(true); byId("cut-size").textContent = `${width} × ${height} pixels`; },
    });
  }

  function end() {
    cropper?.destroy(); cropper = null;
    byId("cut-done").className = "btn btn-quiet";
    dialog.close();
    asker?.focus();
  }

  function nudge(across, down, grow) {
    const box = cropper.getCropBoxData(), all = cropper.getCanvasData();
    const width = Math.min(box.width * (1 + grow), all.width), height = Math.min(box.height * (1 + grow), all.height);
    cropper.setCropBoxData({
      width, height,
      left: box.left + across * all.width - (width - box.width) / 2,
      top: box.top + down * all.height - (height - box.height) / 2,
    });
  }
  const KEYS = {
    ArrowLeft: [-STEP, 0, 0], ArrowRight: [STEP, 0, 0], ArrowUp: [0, -STEP, 0], ArrowDown: [0, STEP, 0],
    "+": [0, 0, 0.05], "-": [0, 0, -0.05],
  };

  async function use() {
    const part = cropper.getData(true), body = new FormData();
    const sent = { left: part.x, top: part.y, width: part.width, height: part.height };
    for (const [key, value] of Object.entries(sent)) body.append(key, value);
    const token = document.querySelector('meta[name="csrf-token"]').content;
    const answer = await fetch(bellPath(`/gallery/${asker.dataset.cut}/cut`), { method: "POST", body, headers: { "X-CSRF-Token": token } });
    const made = await answer.json();
    if (!answer.ok) { byId("cut-problem").textContent = made.problem; return; }
    asker.dispatchEvent(new CustomEvent("picture-cut", { bubbles: true, detail: made }));
    end();
  }

  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-cut]");
    if (button) open(button);
  });
  stage.addEventListener("keydown", (event) => {
    if (!cropper || !KEYS[event.key]) return;
    event.preventDefault();
    nudge(...KEYS[event.key]);
  });
  byId("cut-shape").addEventListener("change", (event) => cropper?.setAspectRatio(Number(event.target.value) || NaN));
  byId("cut-done").addEventListener("click", use);
  byId("cut-close").addEventListener("click", end);
  dialog.addEventListener("cancel", (event) => { event.preventDefault(); end(); });

  // in the gallery the new picture shows among the others
  if (document.querySelector(".gallery")) document.addEventListener("picture-cut", () => location.reload());
})();
