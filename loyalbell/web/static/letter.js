// The letter editor: texts are written where they stand, fields are chips; blocks are added, moved, shown to some, taken away.
// The page holds the whole message as JSON; the server draws it again when a channel, a language or an earlier state is turned to.
(() => {
  "use strict";
  const form = document.getElementById("letter-form");
  if (!form) return;
  const byId = (id) => document.getElementById(id);
  const letter = byId("letter");

  // from the page to JSON
  const liquid = (chip) => chip.dataset.fallback === undefined
    ? `{{ ${chip.dataset.field} }}`
    : `{{ ${chip.dataset.field} | default: "${chip.dataset.fallback.replaceAll('"', "’")}" }}`;

  const MARKS = { B: "**", STRONG: "**", I: "*", EM: "*" };
  function written(node) {
    let text = "";
    for (const child of node.childNodes) {
      if (child.nodeType === Node.TEXT_NODE) text += child.data;
      else if (child.matches?.(".chip")) text += liquid(child);
      else if (child.tagName === "BR") text += "\n";
      else if (MARKS[child.tagName]) { const inner = written(child); text += inner.trim() ? `${MARKS[child.tagName]}${inner}${MARKS[child.tagName]}` : inner; }
      else if (child.tagName === "A") text += `[${written(child)}](${child.dataset.href || child.getAttribute("href") || ""})`;
      else if (child.tagName === "SPAN") text += written(child);
      else text += (text && !text.endsWith("\n") ? "\n" : "") + written(child);
    }
    return text.replaceAll("\u00a0", " ");
  }

  function valueOf(field) {
    if (field.matches(".written")) { const text = written(field).replace(/\n$/, ""); return field.matches(".one-line") ? text.trim() : text; }
    if (field.dataset.type === "bool") return field.checked;
    if (field.dataset.type === "int") return field.value === "" ? null : Number(field.value);
    return field.tagName === "TEXTAREA" ? field.value : field.value.trim();
  }

  function blockOf(node) {
    const found = { kind: node.dataset.kind };
    if (found.kind === "columns") {
      found.columns = [...node.querySelectorAll(":scope > .columns-of > .column > .column-blocks")].map(blocksIn);
    } else {
      for (const field of node.querySelectorAll("[data-name]")) found[field.dataset.name] = valueOf(field);
    }
    if (node.dataset.when) found.when = JSON.parse(node.dataset.when);
    if (found.kind === "words") delete found.kind;
    return found;
  }
  const blocksIn = (list) => [...list.querySelectorAll(":scope > .piece > .block")].map(blockOf);

  function writing() {
    const at = letter.querySelector(".writing"), channel = at.dataset.channel;
    const found = { channel, language: at.dataset.language };
    for (const field of at.querySelectorAll("[data-of]")) found[field.dataset.of] = valueOf(field);
    for (const field of at.querySelectorAll("[data-line] [data-name]")) found[field.dataset.name] = valueOf(field);
    const list = at.querySelector("#blocks");
    const before = JSON.parse(form.elements.whole.value).writings.find((one) => one.channel === channel && one.language === found.language) || {};
    if (channel === "email") {
      found.form = at.querySelector("input[name=how]:checked").value;
      found.blocks = list ? blocksIn(list) : before.blocks || [];
      found.html ??= before.html || ""; found.plain ??= before.plain || "";
      found.attachments = [...at.querySelectorAll("[data-file]:checked")].map((one) => Number(one.dataset.file));
    } else {
      found.texts = blocksIn(list);
      if (channel === "chat") found.replies = [...at.querySelectorAll(".quick")].map((one) => one.value.trim()).filter(Boolean);
    }
    return found;
  }

  function collect() {
    const whole = JSON.parse(form.elements.whole.value), own = writing();
    whole.writings = [...whole.writings.filter((one) => one.channel !== own.channel || one.language !== own.language), own];
    form.elements.whole.value = JSON.stringify(whole);
  }

  // earlier and later states
  const states = [form.elements.whole.value];
  let at = 0, waiting = 0;
  function remember() {
    const now = form.elements.whole.value;
    if (now === states[at]) return;
    states.splice(at + 1, states.length, now);
    if (states.length > 200) states.shift();
    at = states.length - 1;
    turned();
  }
  function turned() { byId("undo").disabled = at === 0; byId("redo").disabled = at === states.length - 1; }
  function step(by) {
    const pending = states[at] !== form.elements.whole.value;
    if (pending) remember();
    if (!states[at + by]) return;
    at += by;
    form.elements.whole.value = states[at];
    turned();
    draw();
  }

  let edits = 0, drawn = { edits: 0, more: {} };
  function changed() {
    edits += 1;
    collect();
    clearTimeout(waiting);
    waiting = setTimeout(() => { waiting = 0; remember(); htmx.trigger(form, "read"); }, 350);
  }
  // left within the third of a second before it is kept
  addEventListener("pagehide", () => {
    if (waiting) navigator.sendBeacon(bellPath("/messages/read"), new URLSearchParams(new FormData(form)));
  });
  function draw(more = {}) {
    drawn = { edits, more };
    htmx.ajax("POST", bellPath("/messages/sheet"), { source: form, target: "#letter", swap: "innerHTML", values: { ...Object.fromEntries(new FormData(form)), ...more } });
  }
  function redraw() { collect(); remember(); draw(); }
  // what is typed while a drawing is under way is not in it: draw again, with it
  document.addEventListener("htmx:beforeSwap", (event) => {
    if (event.detail.target.id !== "letter" || drawn.edits === edits) return;
    event.detail.shouldSwap = false;
    draw(drawn.more);
  });

  // where the caret stood last
  let last = null;
  document.addEventListener("selectionchange", () => {
    const selection = document.getSelection();
    const node = selection.anchorNode;
    const place = node && (node.closest ? node : node.parentElement)?.closest(".written");
    if (place && form.contains(place) && selection.rangeCount) last = { place, range: selection.getRangeAt(0).cloneRange() };
  });
  function back() {
    if (!last) return;
    last.place.focus();
    const selection = document.getSelection();
    selection.removeAllRanges();
    selection.addRange(last.range);
  }

  // the small windows
  let open = null, about = null, held = null; // held: the field in the letter whose fallback is being changed
  function show(window_, button) {
    close();
    const place = button.getBoundingClientRect();
    window_.hidden = false;
    const room = Math.max(0, innerHeight - window_.offsetHeight - 8);
    window_.style.setProperty("top", `${scrollY + Math.max(60, Math.min(place.bottom + 6, room))}px`);
    window_.style.setProperty("left", `${Math.max(8, Math.min(place.left + scrollX, innerWidth - window_.offsetWidth - 24))}px`);
    open = window_; about = button.closest(".block");
    window_.querySelector("input, select, button")?.focus();
  }
  function close() { if (open) open.hidden = true; open = held = null; }
  document.addEventListener("mousedown", (event) => { if (open && !open.contains(event.target)) close(); });
  document.addEventListener("keydown", (event) => { if (event.key === "Escape" && open) { close(); back(); } });

  function chip(field, label, fallback) {
    const node = document.createElement("span");
    node.className = "chip"; node.contentEditable = "false"; node.dataset.field = field;
    node.append(label);
    if (fallback) {
      node.dataset.fallback = fallback;
      const other = document.createElement("span");
      other.className = "else"; other.textContent = ` | ${fallback}`;
      node.append(other);
    }
    return node;
  }
  let ownSpace = null; // the space we put after a field, which a full stop or the like takes the place of
  form.addEventListener("beforeinput", (event) => {
    if (ownSpace?.data === " " && document.getSelection().anchorNode === ownSpace && /^[.,;:!?)’]$/.test(event.data ?? "")) ownSpace.data = "";
    ownSpace = null;
  });
  function putIn(field, label, fallback) {
    const node = chip(field, label, fallback);
    const place = last && about?.contains(last.place) ? last.place : about?.querySelector(".written");
    if (!place) return;
    if (last?.place === place) { last.range.deleteContents(); last.range.insertNode(node); } else place.append(node);
    node.after(ownSpace = document.createTextNode(" "));
    place.focus();
    document.getSelection().collapse(node.nextSibling, 1);
    close();
    changed();
  }

  function setWhen(when) {
    const name = byId("when-name").value.trim();
    close();
    if (!about) return;
    about.dataset.when = when ? JSON.stringify({ ...when, name }) : "";
    redraw();
  }
  const asked = (line) => ({ rule: { version: 1, root: { match: "all", lines: [line] } }, otherwise: false });
  const inSegment = (id) => asked({ about: "segment", segment: id, within: byId("when-within").value === "in" });
  const holding = (field, value, comparison = "is") => asked({ about: "field", field, comparison, value });
  const choicesOf = () => JSON.parse(byId("when-field").selectedOptions[0]?.dataset.choices || "[]");
  function askWhen(button) {
    const when = button.closest(".block").dataset.when;
    byId("when-name").value = when ? JSON.parse(when).name || "" : "";
    show(byId("when-picker"), button);
  }
  // one part for each choice of a field, and one for all others
  function oneForEach() {
    const field = Number(byId("when-field").value), subject = about;
    close();
    if (!field || !subject) return;
    let piece = subject.closest(".piece");
    for (const value of choicesOf()) {
      subject.dataset.when = JSON.stringify({ ...holding(field, value), name: value });
      const twin = twinOf(piece);
      piece.before(twin);
    }
    subject.dataset.when = JSON.stringify({ rule: null, otherwise: true, name: "all others" });
    redraw();
  }

  // a rule said in a sentence, in the segments' own editor
  const dialog = byId("rule-dialog"), frame = dialog.querySelector("iframe");
  function sayRule() {
    const when = about?.dataset.when ? JSON.parse(about.dataset.when) : null;
    const rule = when?.rule ? `&rule=${encodeURIComponent(JSON.stringify(when.rule))}` : "";
    const subject = about;
    close(); about = subject;
    frame.src = bellPath(`/segments/new?pick=1${rule}`);
    dialog.showModal();
  }
  window.addEventListener("message", (event) => {
    if (event.origin !== location.origin || event.source !== frame.contentWindow || !event.data?.rule) return;
    dialog.close(); frame.src = "about:blank";
    setWhen({ rule: event.data.rule, otherwise: false });
  });
  byId("rule-close").addEventListener("click", () => { dialog.close(); frame.src = "about:blank"; });

  // blocks
  function addBlock(kind, button) {
    const wide = kind === "columns3" ? "columns" : kind;
    const fresh = letter.querySelector(`template[data-new="${kind}"]`).content.cloneNode(true);
    const first = fresh.querySelector(".block");
    const after = button.closest(".piece"), column = button.closest(".column");
    if (wide === "words") letter.querySelector("#blocks").append(fresh);
    else if (after && (!column || column.contains(after))) after.after(fresh);
    else if (column) column.querySelector(".column-blocks").prepend(fresh);
    else letter.querySelector("#blocks").prepend(fresh);
    draggable();
    first.querySelector(".written, input, select, textarea")?.focus();
    changed();
  }
  // a clone does not take along what was typed or chosen since the page was drawn
  function twinOf(piece) {
    const twin = piece.cloneNode(true), from = piece.querySelectorAll("input, select, textarea");
    twin.querySelectorAll("input, select, textarea").forEach((field, at) => {
      if (field.type !== "file") field.value = from[at].value;
      if (field.type === "checkbox") field.checked = from[at].checked;
    });
    return twin;
  }
  function copyBlock(block) {
    const piece = block.closest(".piece"), twin = twinOf(piece);
    piece.after(twin);
    draggable();
    firstIn(twin)?.focus();
    changed();
  }
  const firstIn = (node) => node.querySelector(".block[tabindex], .written, input, select, textarea");
  function removeBlock(block) {
    const piece = block.closest(".piece");
    const next = piece.nextElementSibling || piece.previousElementSibling;
    piece.remove();
    if (next) firstIn(next)?.focus();
    changed();
  }
  function move(block, down) {
    const piece = block.closest(".piece");
    const other = down ? piece.nextElementSibling : piece.previousElementSibling;
    if (!other) return;
    if (down) other.after(piece); else other.before(piece);
    block.querySelector(".written, input, select, button")?.focus();
    changed();
  }
  function draggable() {
    for (const list of letter.querySelectorAll("#blocks, .column-blocks")) {
      if (list.dataset.drags) continue;
      list.dataset.drags = "yes";
      Sortable.create(list, { group: list.matches(".column-blocks") ? "columns" : "letter", draggable: ".piece", handle: ".drag", animation: 120, onEnd: changed });
    }
  }
  async function send(path, file, more = {}) {
    const body = new FormData();
    body.append("file", file);
    for (const [key, value] of Object.entries(more)) body.append(key, value);
    const answer = await fetch(path, { method: "POST", body, headers: { "X-CSRF-Token": document.querySelector('meta[name="csrf-token"]').content } });
    const found = await answer.json();
    if (!answer.ok) { byId("problem").textContent = found.problem; byId("problem").className = "note-problem"; return null; }
    byId("problem").textContent = ""; byId("problem").className = "";
    return found;
  }

  form.addEventListener("click", (event) => {
    const button = event.target.closest("button");
    if (event.target.closest(".chip") && !button) return editChip(event.target.closest(".chip"));
    if (!button) return;
    const block = button.closest(".block");
    if (button.dataset.add) addBlock(button.dataset.add, button);
    else if (button.matches(".insert")) show(byId("field-picker"), button);
    else if (button.matches(".add-link")) { byId("link-address").value = ""; show(byId("link-picker"), button); }
    else if (button.matches(".show-when")) askWhen(button);
    else if (button.matches(".copy-block")) copyBlock(block);
    else if (button.matches(".move-up")) move(block, false);
    else if (button.matches(".move-down")) move(block, true);
    else if (button.matches(".take-away")) removeBlock(block);
    else if (button.matches(".keep-block")) keepBlock(block);
    else if (button.dataset.turnChannel) { collect(); remember(); form.elements.channel.value = button.dataset.turnChannel; draw(); }
    else if (button.id === "drop-writing") dropWriting();
    else if (button.id === "undo") step(-1);
    else if (button.id === "redo") step(1);
  });
  form.addEventListener("mousedown", (event) => {
    const button = event.target.closest(".mark");
    if (!button) return;
    event.preventDefault(); // the chosen words stay chosen
    document.execCommand(button.dataset.mark);
    changed();
  });
  function editChip(node) {
    show(byId("field-picker"), node);
    held = node;
    askFallback(node.dataset.field, node.firstChild.data, node.dataset.fallback ?? "");
  }
  function askFallback(field, label, words) {
    const box = byId("fallback-box");
    box.hidden = false; box.dataset.field = field; box.dataset.label = label;
    byId("fallback-for").textContent = `If ${label} is missing, use`;
    byId("take-out").hidden = !held;
    byId("fallback").value = words; byId("fallback").select(); byId("fallback").focus();
    box.scrollIntoView({ block: "nearest" });
  }
  function fallbackSaid() {
    const box = byId("fallback-box"), words = byId("fallback").value.trim();
    if (!held) return putIn(box.dataset.field, box.dataset.label, words);
    held.replaceWith(chip(box.dataset.field, box.dataset.label, words));
    close(); changed();
  }
  async function keepBlock(block) {
    const name = prompt("Save this block under the name");
    if (!name) return;
    const answer = await send(bellPath("/messages/keep-block"), new Blob([]), { name, block: JSON.stringify(blockOf(block)) });
    if (answer) redraw();
  }
  function dropWriting() {
    const whole = JSON.parse(form.elements.whole.value), own = writing();
    whole.writings = whole.writings.filter((one) => one.channel !== own.channel || one.language !== own.language);
    form.elements.whole.value = JSON.stringify(whole);
    form.elements.language.value = ""; remember(); draw();
  }

  document.addEventListener("click", (event) => {
    const button = event.target.closest("button");
    if (!button) return;
    if (button.dataset.reader) { form.elements.reader.value = button.dataset.reader; collect(); htmx.trigger(form, "read"); }
    else if (button.dataset.view) { form.elements.view.value = button.dataset.view; collect(); htmx.trigger(form, "read"); }
    else if (button.dataset.jump) {
      const blocks = letter.querySelectorAll(".block[data-kind]");
      const found = blocks[Number(button.dataset.jump) - 1];
      found?.scrollIntoView({ block: "center" });
      found?.querySelector(".written, input, select, textarea")?.focus();
    } else if (button.dataset.pickField) {
      const box = byId("fallback-box");
      box.hidden = button.dataset.group === "Links" || button.dataset.group === "The shop" || button.dataset.group === "Offers";
      if (!box.hidden) askFallback(button.dataset.pickField, button.dataset.label, button.dataset.fallback);
      else if (held) { held.replaceWith(chip(button.dataset.pickField, button.dataset.label, "")); close(); changed(); }
      else putIn(button.dataset.pickField, button.dataset.label, "");
    } else if (button.id === "put-in") fallbackSaid();
    else if (button.id === "take-out") { held?.remove(); close(); changed(); }
    else if (button.id === "link-now" || button.id === "link-off") {
      const address = button.id === "link-now" ? byId("link-address").value.trim() : "";
      close(); back();
      document.execCommand("unlink");
      if (address) {
        document.execCommand("createLink", false, "https://x.invalid/");
        for (const link of letter.querySelectorAll('a[href="https://x.invalid/"]')) { link.dataset.href = address; link.removeAttribute("href"); }
      }
      changed();
    } else if (button.dataset.whenChoice !== undefined) setWhen(button.dataset.whenChoice ? { rule: null, otherwise: true } : null);
    else if (button.id === "when-rule") sayRule();
    else if (button.id === "one-for-each") oneForEach();
    else if (button.id === "plain-twins") { collect(); draw({ twins: "1" }); }
  });
  document.addEventListener("change", (event) => {
    if (!event.target.matches("[data-audience]")) return;
    form.elements.audience.value = event.target.value; collect(); htmx.trigger(form, "read");
  });
  byId("when-field")?.addEventListener("change", () => {
    byId("when-value").replaceChildren(new Option("choose one", ""), ...choicesOf().map((one) => new Option(one, one)));
  });
  byId("when-value")?.addEventListener("change", (event) => {
    if (event.target.value) setWhen(holding(Number(byId("when-field").value), event.target.value, byId("when-is").value));
  });
  byId("when-name").addEventListener("change", (event) => {
    if (!about?.dataset.when) return;
    about.dataset.when = JSON.stringify({ ...JSON.parse(about.dataset.when), name: event.target.value.trim() });
    redraw();
  });
  byId("when-segment").addEventListener("change", (event) => { if (event.target.value) { setWhen(inSegment(Number(event.target.value))); event.target.value = ""; } });

  form.addEventListener("change", async (event) => {
    const field = event.target;
    if (field.matches(".upload")) {
      const made = field.files[0] && await send(bellPath("/gallery/upload"), field.files[0]);
      if (made) {
        const select = field.closest(".block").querySelector('[data-name="picture"]');
        select.add(new Option(made.name, made.id, true, true));
        redraw();
      }
    } else if (field.matches(".upload-file")) {
      const made = field.files[0] && await send(bellPath("/messages/attach"), field.files[0]);
      if (made) { const tick = document.createElement("input"); tick.type = "checkbox"; tick.checked = true; tick.dataset.file = made.id; byId("files").prepend(tick); redraw(); }
    } else if (field.id === "turn-language") { collect(); remember(); form.elements.language.value = field.value; draw(); }
    else if (field.name === "how" || field.dataset.name === "picture" || field.dataset.name === "list") redraw();
    else if (field.matches("[data-name], [data-of], [data-file], [name=purpose]")) changed();
  });
  form.addEventListener("picture-cut", (event) => {
    const select = event.target.closest(".block").querySelector('[data-name="picture"]');
    select.add(new Option(event.detail.name, event.detail.id, true, true));
    redraw();
  });
  form.addEventListener("input", (event) => {
    if (event.target.matches('[type=range][data-name="width"]')) {
      event.target.closest("label").querySelector("output").textContent = `${event.target.value} %`;
      event.target.closest(".block").querySelector(".in-place")?.setAttribute("width", `${event.target.value}%`);
    }
    if (event.target.matches(".written, input.url, textarea, [data-name], [data-of], .quick, [name=name]")) changed();
  });
  document.addEventListener("input", (event) => {
    if (event.target.id !== "field-search") return;
    const wanted = event.target.value.toLowerCase();
    for (const row of byId("field-picker").querySelectorAll("[data-pick-field]")) row.hidden = !row.textContent.toLowerCase().includes(wanted);
  });
  document.addEventListener("keydown", (event) => {
    if (event.target.id === "fallback" && event.key === "Enter") { event.preventDefault(); fallbackSaid(); }
  });
  form.addEventListener("keydown", (event) => {
    if (event.target.matches(".written.one-line") && event.key === "Enter") event.preventDefault();
    if (event.target.matches("input:not([type=file])") && event.key === "Enter") event.preventDefault();
    if (event.altKey && (event.key === "ArrowUp" || event.key === "ArrowDown") && event.target.closest(".piece .block")) {
      event.preventDefault();
      move(event.target.closest(".block"), event.key === "ArrowDown");
    }
    const block = event.altKey && event.target.closest(".piece .block");
    if (block && event.key.toLowerCase() === "d") { event.preventDefault(); copyBlock(block); }
    if (block && event.key === "Delete") { event.preventDefault(); removeBlock(block); }
  });
  document.addEventListener("keydown", (event) => {
    if (event.altKey && event.key.toLowerCase() === "z") { event.preventDefault(); step(event.shiftKey ? 1 : -1); }
  });
  form.addEventListener("paste", (event) => {
    if (!event.target.closest?.(".written")) return;
    event.preventDefault();
    document.execCommand("insertText", false, event.clipboardData.getData("text/plain"));
  });
  form.addEventListener("submit", (event) => { collect(); remember(); event.preventDefault(); }, true);
  document.addEventListener("htmx:configRequest", (event) => {
    if (/\/messages\/(save|proof)$/.test(event.detail.path)) { collect(); event.detail.parameters.set?.("whole", form.elements.whole.value); }
  });
  document.addEventListener("htmx:afterSettle", (event) => {
    if (event.target.id !== "letter") return;
    form.elements.channel.value = letter.querySelector(".writing").dataset.channel;
    form.elements.language.value = letter.querySelector(".writing").dataset.language;
    collect(); draggable();
  });
  document.execCommand("defaultParagraphSeparator", false, "div");
  document.execCommand("styleWithCSS", false, false);
  draggable();
  collect();
  states[0] = form.elements.whole.value;
})();
