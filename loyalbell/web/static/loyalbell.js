// Small helpers of every page. Nothing here decides anything: the server does.
// where the whole program is served under a path of its own, that stands before every address
window.bellPath = (path) => (document.documentElement.dataset.base || "") + path;
(() => {
  "use strict";
  const token = document.querySelector('meta[name="csrf-token"]');
  document.addEventListener("htmx:configRequest", (event) => {
    if (token) event.detail.headers["X-CSRF-Token"] = token.content;
  });
  document.addEventListener("htmx:responseError", () => say("That did not work. Nothing was changed."));
  document.addEventListener("htmx:sendError", () => say("The program cannot be reached. Is it still running?"));

  // while the demo's clock walks, the page comes again by itself; never over something begun, nor under a
  // hand that moves, types, scrolls or has something in focus
  let begun = false, handsAt = -Infinity;
  const HANDS_REST = 5000;
  document.addEventListener("input", () => { begun = true; });
  for (const act of ["pointermove", "pointerdown", "keydown", "wheel", "touchmove"]) {
    window.addEventListener(act, () => { handsAt = performance.now(); }, { capture: true, passive: true });
  }
  const isBusy = () => begun || performance.now() - handsAt < HANDS_REST || document.querySelector(
    "main :focus, [contenteditable]:not([contenteditable='false']), dialog[open], main [data-unsaved]") || String(getSelection());
  const comeAgain = () => { if (isBusy()) setTimeout(comeAgain, 1500); else location.reload(); };
  if (document.querySelector("[data-moving]")) setTimeout(comeAgain, 1500);
  document.addEventListener("change", (event) => {
    if (event.target.matches("[data-puts]") && event.target.value) document.getElementById(event.target.dataset.puts).value = event.target.value;
  });

  // a choice that narrows a list does so at once; a tick above a column ticks it
  document.addEventListener("change", (event) => {
    if (event.target.matches(".finder [data-submits]")) event.target.form.submit();
    if (event.target.matches("[data-ticks]")) {
      for (const box of event.target.form.querySelectorAll(`[name="${event.target.dataset.ticks}"]`)) box.checked = event.target.checked;
    }
  });
  // a country brings its currency along; on the first day the browser says where it is
  document.addEventListener("change", (event) => {
    const other = event.target.dataset.sets && event.target.selectedOptions[0].dataset.other;
    if (other) document.getElementById(event.target.dataset.sets).value = other;
  });
  const unplaced = document.querySelector("[data-guess-place]");
  if (unplaced) {
    const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
    fetch(bellPath(`/places/guess?zone=${encodeURIComponent(zone)}&language=${encodeURIComponent(navigator.language)}`))
      .then((answer) => answer.json())
      .then((found) => {
        for (const [name, value] of Object.entries(found)) {
          const field = unplaced.elements[name];
          if (field && !field.value) field.value = value;
        }
        document.body.dispatchEvent(new Event("placed"));
      });
  }

  function say(words) {
    const place = document.getElementById("said");
    if (place) { place.textContent = words; place.hidden = false; }
  }

  // arrows in a chooser's select change the select, and do not walk the menu around it
  window.addEventListener("keydown", (event) => {
    if (event.key.startsWith("Arrow") && event.target.matches?.(".chooser select")) event.stopPropagation();
  }, true);

  const typing = (node) => node.matches("input, textarea, select, [contenteditable]:not([contenteditable='false'])");
  let going = false;
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
    if (going) {
      going = false;
      const area = document.querySelector(`.bar nav a[data-key="${CSS.escape(event.key)}"]`);
      if (area) area.click();
    } else if (event.key === "g") {
      going = true;
    } else if (event.key === "/") {
      event.preventDefault();
      const own = document.querySelector("input[type=search]");
      if (own) own.focus(); else location.href = bellPath("/search");
    } else if (event.key === ".") {
      const rail = document.querySelector("main .rail");
      if (!rail) return;
      const to = rail.contains(document.activeElement) ? document.getElementById("main") : rail;
      to.tabIndex = -1;
      to.focus();
    } else if (event.key === "?") {
      document.getElementById("keys")?.showModal();
    }
  });

  document.addEventListener("click", (event) => {
    const menu = event.target.closest(".menu-button");
    if (menu) {
      const nav = document.querySelector(".bar nav");
      menu.setAttribute("aria-expanded", String(nav.classList.toggle("open")));
    }
    if (event.target.closest("#help-button")) document.getElementById("keys")?.showModal();
    const asks = event.target.closest("[data-confirm]");
    if (asks && !window.confirm(asks.dataset.confirm)) event.preventDefault();
  });

  // a form is sent once, however often its button is pressed
  document.addEventListener("submit", (event) => {
    if (event.defaultPrevented) return;
    for (const button of event.target.querySelectorAll("button[type=submit]")) {
      setTimeout(() => { button.disabled = true; }, 0);
    }
  });
  window.addEventListener("pageshow", () => {
    for (const button of document.querySelectorAll("form button[type=submit][data-was-enabled]")) button.disabled = false;
  });
})();
// a picture that the server makes as SVG, as a PNG file of twice its size
document.addEventListener("click", (event) => {
  const link = event.target.closest("a[data-as-png]");
  if (!link) return;
  event.preventDefault();
  const picture = new Image();
  picture.addEventListener("load", () => {
    const canvas = document.createElement("canvas");
    canvas.width = picture.naturalWidth; canvas.height = picture.naturalHeight;
    canvas.getContext("2d").drawImage(picture, 0, 0);
    canvas.toBlob((file) => {
      const saved = document.createElement("a");
      saved.href = URL.createObjectURL(file); saved.download = link.dataset.asPng;
      saved.click();
      setTimeout(() => URL.revokeObjectURL(saved.href), 10_000);
    }, "image/png");
  });
  picture.addEventListener("error", () => { location.href = link.href; });
  picture.src = link.href;
});
