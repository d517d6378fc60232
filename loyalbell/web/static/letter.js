// The letter editor: texts are written where they stand, fields are chips, blocks are added, moved and taken away.
(() => {
  "use strict";
  const form = document.getElementById("letter-form");
  if (!form) return;
  const blocks = document.getElementById("blocks");

  const liquid = (chip) => chip.dataset.fallback === undefined
    ? `{{ ${chip.dataset.field} }}`
    : `{{ ${chip.dataset.field} | default: "${chip.dataset.fallback.replaceAll('"', "’")}" }}`;

  function written(node) {
    let text = "";
    for (const child of node.childNodes) {
      if (child.nodeType === Node.TEXT_NODE) text += child.data;
      else if (child.matches(".chip")) text += liquid(child);
      else if (child.tagName === "BR") text += "\n";
      else text += (text && !text.endsWith("\n") ? "\n" : "") + written(child);
    }
    return text.replaceAll("\u00a0", " ");
  }

  function collect() {
    form.elements.subject.value = written(document.getElementById("subject")).trim();
    form.elements.preview.value = written(document.getElementById("preview-line")).trim();
    const found = [...blocks.querySelectorAll(".block")].map((block) => {
      const kind = block.dataset.kind;
      const own = written(block.querySelector(".written")).replace(/\n$/, "");
      return kind === "button" ? { kind, label: own.trim(), url: block.querySelector("input.url").value.trim() } : { kind, text: own };
    });
    form.elements.blocks.value = JSON.stringify(found);
  }

  let waiting;
  function changed() {
    collect();
    clearTimeout(waiting);
    waiting = setTimeout(() => htmx.trigger(form, "read"), 350);
  }

  let last = null; // where the caret stood last, for inserting a field
  document.addEventListener("selectionchange", () => {
    const selection = document.getSelection();
    const place = selection.anchorNode && (selection.anchorNode.closest ? selection.anchorNode : selection.anchorNode.parentElement)?.closest(".written");
    if (place && form.contains(place) && selection.rangeCount) last = { place, range: selection.getRangeAt(0).cloneRange() };
  });

  function chip(field, label, fallback) {
    const node = document.createElement("span");
    node.className = "chip";
    node.contentEditable = "false";
    node.dataset.field = field;
    node.append(label);
    if (fallback) {
      node.dataset.fallback = fallback;
      const other = document.createElement("span");
      other.className = "else";
      other.textContent = ` | ${fallback}`;
      node.append(other);
    }
    return node;
  }

  function insertField(chooser) {
    const picked = chooser.querySelector("select").selectedOptions[0];
    const node = chip(picked.value, picked.dataset.label, chooser.querySelector(".fallback").value.trim());
    const near = chooser.closest("[data-writes]").querySelector(".written");
    if (last && last.place === near) { last.range.deleteContents(); last.range.insertNode(node); }
    else near.append(node);
    node.after(document.createTextNode(" "));
    near.focus();
    document.getSelection().collapse(node.nextSibling, 1);
    bootstrap.Dropdown.getInstance(chooser.parentElement.querySelector("[data-bs-toggle]"))?.hide();
    changed();
  }

  function addBlock(kind, after) {
    const fresh = document.getElementById(`new-${kind}`).content.cloneNode(true);
    const first = fresh.querySelector(".block");
    if (after) after.after(fresh); else blocks.prepend(fresh);
    first.querySelector(".written").focus();
    changed();
  }

  function move(block, down) {
    const all = [...blocks.querySelectorAll(".piece")];
    const piece = block.closest(".piece");
    const other = all[all.indexOf(piece) + (down ? 1 : -1)];
    if (!other) return;
    if (down) other.after(piece); else other.before(piece);
    block.querySelector(".written").focus();
    changed();
  }

  form.addEventListener("click", (event) => {
    const button = event.target.closest("button");
    if (!button) return;
    const block = button.closest(".block");
    if (button.dataset.add) addBlock(button.dataset.add, button.closest(".piece"));
    else if (button.matches(".insert-now")) insertField(button.closest(".chooser"));
    else if (button.matches(".move-up")) move(block, false);
    else if (button.matches(".move-down")) move(block, true);
    else if (button.matches(".take-away")) { block.closest(".piece").remove(); changed(); }
  });
  document.addEventListener("click", (event) => {
    const reader = event.target.closest("[data-reader]");
    if (!reader) return;
    form.elements.reader.value = reader.dataset.reader;
    collect();
    htmx.trigger(form, "read");
  });
  form.addEventListener("change", (event) => {
    if (event.target.matches(".field-choice")) {
      event.target.closest(".chooser").querySelector(".fallback").value = event.target.selectedOptions[0].dataset.fallback;
    } else if (event.target.matches("select[name=letterhead]")) changed();
  });
  form.addEventListener("input", (event) => {
    if (event.target.matches(".written, input.url")) changed();
  });
  form.addEventListener("keydown", (event) => {
    if (event.target.matches(".written.one-line") && event.key === "Enter") event.preventDefault();
    if (event.altKey && (event.key === "ArrowUp" || event.key === "ArrowDown") && event.target.closest(".block")) {
      event.preventDefault();
      move(event.target.closest(".block"), event.key === "ArrowDown");
    }
  });
  form.addEventListener("paste", (event) => {
    if (!event.target.closest?.(".written")) return;
    event.preventDefault();
    document.execCommand("insertText", false, event.clipboardData.getData("text/plain"));
  });
  form.addEventListener("submit", collect, true);
  collect();
})();
