// The page of a piece: joins the two views, the keyboard and the fragments that the server sends.
import { Brush } from "./brush.js";
import { fetchMesh, ModelView, parseMesh } from "./model.js";
import { ReachRule } from "./reach.js";
import { SectionView } from "./section.js";
import { SheetView } from "./sheet.js";
import { takeDrops, uploadsInto } from "./upload.js";

const $ = (id) => document.getElementById(id);
const base = `/pieces/${$("table").dataset.piece}`;
const plain = new URLSearchParams(location.search).has("plain"); // no antialiasing, for slow machines
const model = new ModelView($("model"), { antialias: !plain });
const sheet = new SheetView($("sheet"));
const state = { facts: null, key: null, sheet: "", bitmaps: new Map() };

function toast(text) {
  $("toast").textContent = text;
  $("toast").hidden = !text;
  clearTimeout(toast.timer);
  if (text) toast.timer = setTimeout(() => { $("toast").hidden = true; }, 9000);
}

async function json(address, options) {
  const response = await fetch(address, options);
  const answer = await response.json().catch(() => ({}));
  if (!response.ok) throw new Error(answer.error || `The server answered ${response.status}.`);
  return answer;
}

// meshes

// While the views wait for the engine, say what it is doing.
function sayProgress() {
  const timer = setInterval(async () => {
    const { words, share } = await json("/at-work").catch(() => ({}));
    if (words) $("model-note").textContent = `${words}, ${Math.round(share * 100)} %`;
  }, 600);
  return () => clearInterval(timer);
}

async function loadMeshes(turn = true) {
  $("table").dataset.views = "loading";
  const done = sayProgress();
  const facts = await json(`${base}/state`);
  const before = model.box.clone();
  model.clear();
  $("model-note").textContent = facts.meshes ? "Loading the meshes …" : "No meshes yet. Add them in the step Meshes.";
  const problems = [];
  for (const mesh of facts.sculpts) {
    try { model.addSculpt(await fetchMesh(`${base}/views/sculpt?mesh=${mesh.id}`)); }
    catch (error) { problems.push(`${mesh.name}: ${error.message}`); }
  }
  try { await loadLow(); } catch (error) { problems.push(error.message); }
  done();
  if (facts.meshes) $("model-note").textContent = problems.join(" ");
  if (turn || before.isEmpty() || !before.equals(model.box)) model.fit();
  await showBake(facts.facts);
  $("table").dataset.views = "ready";
}

async function loadLow() {
  model.setLow(await fetchMesh(`${base}/views/low`));
  await loadCage();
  showLines();
}

async function loadCage() {
  if (!model.low?.header.paired) { model.draw(); return; }
  const { header, arrays } = await fetchMesh(`${base}/views/cage`);
  model.setCage(arrays);
  forms = header.forms;
  tellForms();
}

// How the cage meshes from file are in force, in the server's words.
let forms = [];
function tellForms() {
  $("cage-forms")?.replaceChildren(...forms.map(({ pair, form, words, limited }) => {
    const line = document.createElement("p");
    line.className = form === "length" || limited ? "fault-line" : "soft";
    const name = document.createElement("b");
    name.textContent = `Cage of ${pair}. `;
    line.append(name, words);
    return line;
  }));
}

// The UV lines of the sheet in view; before a bake, of all the lows.
function showLines() {
  if (!model.low?.header.triangles) { sheet.setLines(null); return; }
  const { header, arrays } = model.low, number = header.sheets.findIndex((s) => s.name === state.sheet);
  sheet.setLines(arrays.uv, state.facts && number >= 0 ? (t) => arrays.sheet[t] === number : undefined);
}

// bakes and maps

async function showBake(facts) {
  state.facts = facts;
  for (const made of state.bitmaps.values()) for (const pair of Object.values(await made.catch(() => ({})))) pair.flipped.close?.();
  state.bitmaps.clear();
  const chips = $("map-chips"), choice = $("sheet-choice");
  chips.replaceChildren();
  model.setPin(null); sheet.setMark(null);
  choice.hidden = !facts || facts.sheets.length < 2;
  if (!facts) {
    $("sheet-note").textContent = "The sheet fills when you bake. These are the UVs of the low.";
    $("sheet-fact").textContent = "";
    sheet.setMap(null, [1, 1]);
    model.setMap(null, null, null);
    showLines();
    return;
  }
  $("sheet-note").textContent = "";
  choice.replaceChildren(...facts.sheets.map((s) => new Option(s.name, s.name)));
  if (!facts.sheets.some((s) => s.name === state.sheet)) state.sheet = facts.sheets[0].name;
  for (const key of facts.maps) {
    const chip = document.createElement("button");
    chip.className = "chip"; chip.textContent = facts.labels[key]; chip.dataset.key = key;
    chip.onclick = () => showMap(key);
    chips.append(chip);
  }
  await showMap(facts.maps.includes(state.key) ? state.key : facts.maps[0]);
}

function sheetSize() {
  const found = state.facts.sheets.find((s) => s.name === state.sheet);
  return [found.width, found.height];
}

async function showMap(key) {
  state.key = key;
  for (const chip of $("map-chips").children) chip.setAttribute("aria-pressed", chip.dataset.key === key);
  const facts = state.facts;
  if (!state.bitmaps.has(key)) state.bitmaps.set(key, loadBitmaps(facts, key));
  try {
    const made = await state.bitmaps.get(key);
    if (state.facts !== facts || state.key !== key) return;
    const old = facts.stale ? `, ${facts.stale} changed since` : "", size = sheetSize();
    $("sheet-fact").textContent = `${size[0]} × ${size[1]}, ${facts.seconds}${old}`;
    $("sheet-choice").value = state.sheet;
    sheet.setMap(made[state.sheet].upright, size);
    model.setMap(facts.stale === "meshes" ? null : Object.fromEntries(Object.entries(made).map(([name, m]) => [name, m.flipped])), facts, key);
    if (facts.stale === "meshes") $("sheet-note").textContent = "The meshes changed since this bake, so the model does not wear it.";
    showLines();
  } catch (error) { state.bitmaps.delete(key); toast(error.message); }
}

async function loadBitmaps(facts, key) {
  const made = {}, exact = { premultiplyAlpha: "none", colorSpaceConversion: "none" };
  for (const { name } of facts.sheets) {
    const response = await fetch(`${base}/bakes/${facts.id}/${key}.png?sheet=${encodeURIComponent(name)}`);
    if (!response.ok) throw new Error(`The map could not be loaded (${response.status}).`);
    const blob = await response.blob();
    made[name] = { upright: await createImageBitmap(blob, exact), flipped: await createImageBitmap(blob, { ...exact, imageOrientation: "flipY" }) };
  }
  return made;
}

$("sheet-choice").addEventListener("change", () => { state.sheet = $("sheet-choice").value; sheet.setMark(null); showMap(state.key); });

// findings of the checks

async function showFinding(summary) {
  const number = summary.dataset.finding;
  const { header, arrays } = await fetchMesh(`${base}/checks/${number}/marks`);
  if (header.place) setShow(header.low ? "low" : "sculpt");
  model.showMarks(arrays.corners, header.place);
  sheet.setHatched(arrays.uvs);
  if (arrays.uvs.length) sheet.turnTo(arrays.uvs);
}
function hideFinding() { model.clearMarks(); model.draw(); sheet.setHatched(null); sheet.fit(); }

document.body.addEventListener("toggle", (e) => {
  const summary = e.target.matches?.(".finding > details") && e.target.querySelector("summary");
  if (!summary) return;
  if (e.target.open) showFinding(summary).catch((error) => toast(error.message));
  else if (!document.querySelector(".finding > details[open]")) hideFinding();
}, true);

function stepFinding(by) {
  const all = [...document.querySelectorAll(".finding > details")];
  if (!all.length) return;
  const here = all.findIndex((d) => d.open), next = all[(here + by + all.length) % all.length];
  next.open = true;
  next.querySelector("summary").focus();
}

// one pointer in both views

let asking = null, wanted = null;
async function pointAt(texel, name) {
  sheet.setMark(name === state.sheet ? texel : null);
  wanted = [...texel, name];
  if (asking || !state.facts) return;
  asking = true;
  while (wanted) {
    const [x, y, at] = wanted;
    wanted = null;
    try { readOut(await json(`${base}/bakes/${state.facts.id}/texel?x=${x}&y=${y}&sheet=${encodeURIComponent(at)}`)); } catch (error) { toast(error.message); }
  }
  asking = false;
}

function readOut(found) {
  const p = found.probe, short = (v) => (Math.abs(v) < 1e-4 * (p.outward + p.inward) ? "0" : Number(v.toPrecision(3)).toString());
  model.setPin(p || null);
  if (p) sectionAt({ triangle: p.triangle, place: p.place });
  const words = Object.entries(found.maps).map(([key, v]) => `${state.facts.labels[key].toLowerCase()} ${v.map((c) => c.toFixed(2)).join(" ")}`);
  const uv = p ? `u ${p.uv[0].toFixed(4)} v ${p.uv[1].toFixed(4)} · ` : "";
  $("sheet-readout").textContent = `texel ${found.texel.join(", ")} · ${uv}${words.join(" · ")}`;
  const line = $("model-readout");
  if (!p) { line.textContent = "Off the low, or the engine is busy."; return; }
  const struck = p.hit_object === null ? "<b>struck nothing</b>" : `struck <b></b> at ${short(p.height)} · angle ${p.angle.toFixed(1)}°`;
  line.innerHTML = `triangle ${p.triangle} · reach ${short(p.outward)} / ${short(p.inward)} · ${struck}`;
  if (p.hit_object !== null) line.querySelector("b").textContent = p.hit_object;
}

sheet.canvas.addEventListener("pointermove", (e) => { const t = !sheet.drag && state.facts && sheet.texelAt(e); if (t) pointAt(t, state.sheet); });
let modelMove = 0;
model.canvas.addEventListener("pointermove", (e) => {
  if (e.buttons || modelMove || model.show === "sculpt" || brush.on) return;
  modelMove = requestAnimationFrame(() => {
    modelMove = 0;
    const at = model.uvAt(e);
    if (at) sectionAt(at);
    const found = at && state.facts && state.facts.stale !== "meshes" && state.facts.sheets.find((s) => s.name === at.sheet);
    if (!found) return;
    const { width: w, height: h } = found;
    pointAt([Math.min(Math.max(Math.floor(at.u * w), 0), w - 1), Math.min(Math.max(Math.floor((1 - at.v) * h), 0), h - 1)], at.sheet);
  });
});

// the section, at the pointer until a click pins it

const cut = new SectionView($("section"), $("section-words"));
let cutting = false, cutAt = null, cutNext = null, pinned = false;
const sectionShown = () => !$("section-leaf").hidden;

function sectionAt(at, forced = false) {
  if (!sectionShown() || (pinned && !forced)) return;
  cutAt = cutNext = at;
  if (!cutting) cutSlices();
}

async function cutSlices() {
  cutting = true;
  while (cutNext) {
    const { triangle, place: [x, y, z] } = cutNext;
    cutNext = null;
    const query = new URLSearchParams({ triangle, x, y, z, turned: $("section-turn").value, zoom: 2 ** $("section-zoom").value });
    try {
      const response = await fetch(`${base}/section?${query}`);
      if (response.status === 200) cut.show(parseMesh(await response.arrayBuffer()));
      else if (response.status === 204) $("section-words").textContent = "No slice here: the low has no partner, or the engine is busy.";
      else toast((await response.json()).error);
    } catch (error) { toast(error.message); }
  }
  cutting = false;
}
for (const id of ["section-turn", "section-zoom"]) $(id).addEventListener("input", () => { if (cutAt) sectionAt(cutAt, true); });

function showLeaf(name) {
  for (const leaf of document.querySelectorAll(".leaf")) leaf.setAttribute("aria-selected", leaf.dataset.leaf === name);
  $("section-leaf").hidden = $("section-tools").hidden = name !== "section";
  $("bakes-leaf").hidden = name !== "bakes";
  if (name === "section") cut.draw();
}
for (const leaf of document.querySelectorAll(".leaf")) leaf.addEventListener("click", () => showLeaf(leaf.dataset.leaf));
new ResizeObserver(() => cut.draw()).observe($("section"));

let pressedAt = null;
model.canvas.addEventListener("pointerdown", (e) => { pressedAt = [e.clientX, e.clientY]; });
model.canvas.addEventListener("pointerup", (e) => {
  if (!pressedAt || Math.hypot(e.clientX - pressedAt[0], e.clientY - pressedAt[1]) > 3 || !sectionShown()) return;
  const at = model.uvAt(e);
  pinned = at ? !pinned : false;
  if (at) sectionAt(at, true);
});

// chips and keys

const shows = ["low", "sculpt", "wipe"];
function setShow(name) {
  model.show = name;
  for (const chip of document.querySelectorAll("[data-show]")) chip.setAttribute("aria-pressed", chip.dataset.show === name);
  $("wipe").hidden = name !== "wipe";
  $("model-note").textContent = "";
  if (name !== "low" && model.standIn) $("model-readout").textContent = "The sculpt is drawn through a lighter stand-in; bakes use every triangle.";
  placeWipe();
  model.draw();
}
function placeWipe() {
  $("wipe").style.left = `${model.wipe * 100}%`;
  $("wipe").setAttribute("aria-valuenow", Math.round(model.wipe * 100));
}
function setWipe(share) { model.wipe = Math.min(Math.max(share, 0.02), 0.98); placeWipe(); model.draw(); }
$("wipe").addEventListener("pointerdown", (e) => $("wipe").setPointerCapture(e.pointerId));
$("wipe").addEventListener("pointermove", (e) => { if (e.buttons) { const r = $("model").getBoundingClientRect(); setWipe((e.clientX - r.left) / r.width); } });
$("wipe").addEventListener("keydown", (e) => { if (e.key === "ArrowLeft" || e.key === "ArrowRight") { setWipe(model.wipe + (e.key === "ArrowLeft" ? -0.02 : 0.02)); e.preventDefault(); } });

function toggle(id, apply) {
  const button = $(id);
  const flip = () => { const on = button.getAttribute("aria-pressed") !== "true"; button.setAttribute("aria-pressed", on); apply(on); };
  button.onclick = flip;
  return flip;
}
const flips = {
  m: toggle("maps-on", (on) => { model.mapsOn = on; model.draw(); }),
  c: toggle("cage-on", (on) => { model.cageOn = on; model.draw(); }),
  r: toggle("rays-on", (on) => { model.raysOn = on; model.draw(); }),
  n: toggle("normals-on", (on) => { model.normalsOn = on; model.draw(); }),
  l: toggle("lit", (on) => { model.lit = on; model.draw(); }),
  u: toggle("uvs-on", (on) => { sheet.uvsOn = on; sheet.draw(); }),
};
for (const chip of document.querySelectorAll("[data-show]")) chip.onclick = () => setShow(chip.dataset.show);

document.addEventListener("keydown", (e) => {
  if (e.key === "Escape" && e.target.matches("input")) e.target.blur(); // back to the keys of the page
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !e.target.matches("input[type=text], textarea")) {
    $(e.shiftKey ? "redo" : "undo").click();
    e.preventDefault();
    return;
  }
  if (e.ctrlKey || e.metaKey || e.altKey || (e.target.matches("input:not([type=radio]):not([type=checkbox]), select, textarea"))) return;
  const key = e.key.toLowerCase();
  if (flips[key]) flips[key]();
  else if (key === "w") setShow(shows[(shows.indexOf(model.show) + 1) % 3]);
  else if (key === "p") $("proof")?.click();
  else if (key === "b") $("full-bake")?.click();
  else if (key === "s") showLeaf(sectionShown() ? "bakes" : "section");
  else if (key === "j") stepFinding(1);
  else if (key === "k") stepFinding(-1);
  else if (key === "f") { model.fit(); sheet.fit(); }
  else if (key === "?") $("keys").hidden = !$("keys").hidden;
  else if (key === "escape") { $("keys").hidden = true; toast(""); }
  else if (key >= "1" && key <= "6") document.querySelectorAll("#steps .step")[Number(key) - 1].click();
  else return;
  e.preventDefault();
});
const arrows = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
function viewKeys(canvas, turn, zoom) {
  canvas.addEventListener("keydown", (e) => {
    if (arrows[e.key]) turn(...arrows[e.key]);
    else if (e.key === "+" || e.key === "=") zoom(1.15);
    else if (e.key === "-") zoom(1 / 1.15);
    else return;
    e.preventDefault();
  });
}
viewKeys(model.canvas, (x, y) => model.turn(x * 0.12, y * 0.12), (z) => model.turn(0, 0, 1 / z));
viewKeys(sheet.canvas, (x, y) => sheet.move(-x * sheet.size[0] * 0.05 / sheet.zoom, -y * sheet.size[1] * 0.05 / sheet.zoom), (z) => sheet.zoomBy(z));

// sizes of the views

for (const head of document.querySelectorAll("[data-whole]")) {
  head.addEventListener("dblclick", (e) => { if (!e.target.closest("button")) $("bench").classList.toggle(head.dataset.whole === "model-view" ? "whole-model" : "whole-sheet"); });
}
function setSplit(share) { $("model-view").style.flex = `${share} 1 0`; $("sheet-view").style.flex = `${1 - share} 1 0`; }
$("split").addEventListener("pointerdown", (e) => $("split").setPointerCapture(e.pointerId));
$("split").addEventListener("pointermove", (e) => { if (e.buttons) { const r = $("bench").getBoundingClientRect(); setSplit(Math.min(Math.max((e.clientX - r.left) / r.width, 0.2), 0.8)); } });
let splitShare = 0.5;
$("split").addEventListener("keydown", (e) => { if (e.key === "ArrowLeft" || e.key === "ArrowRight") setSplit(splitShare = Math.min(Math.max(splitShare + (e.key === "ArrowLeft" ? -0.03 : 0.03), 0.2), 0.8)); });

// fragments

const stepHere = () => document.querySelector("#steps .here")?.getAttribute("hx-get");
document.body.addEventListener("bake-ended", async (e) => {
  if (e.detail.facts) await showBake(e.detail.facts);
  const step = e.detail.facts ? `${base}/panel/review` : stepHere();
  if (step) htmx.ajax("GET", step, "#panel");
  $("table").dataset.ended = Number($("table").dataset.ended || 0) + 1;
});
document.body.addEventListener("show-bake", (e) => showBake(e.detail.facts));
document.body.addEventListener("settings-changed", (e) => {
  const facts = e.detail.facts;
  if (!facts || state.facts?.id !== facts.id) return;
  state.facts.stale = facts.stale;
  const size = sheetSize();
  $("sheet-fact").textContent = `${size[0]} × ${size[1]}, ${facts.seconds}${facts.stale ? `, ${facts.stale} changed since` : ""}`;
});
const redraw = (work) => () => work().catch((error) => toast(error.message));
document.body.addEventListener("meshes-changed", redraw(() => loadMeshes(false)));
document.body.addEventListener("low-changed", redraw(loadLow));
document.body.addEventListener("cage-changed", redraw(loadCage));
document.body.addEventListener("htmx:responseError", (e) => {
  let text = `The server answered ${e.detail.xhr.status}.`;
  try { text = JSON.parse(e.detail.xhr.responseText).error || text; } catch { /* not JSON */ }
  toast(text);
});
document.body.addEventListener("htmx:sendError", () => toast("The server cannot be reached. Is it still running?"));

// A panel that arrives while the next field is being filled in must not take away what was typed there.
let typing = null;
document.body.addEventListener("htmx:beforeSwap", (e) => {
  const field = document.activeElement;
  const inPanel = e.detail.target.id === "panel" && field?.matches("#panel input[type=text]");
  typing = inPanel ? { name: field.name, value: field.value, dirty: field.value !== field.defaultValue, from: field.selectionStart, to: field.selectionEnd } : null;
});
document.body.addEventListener("htmx:afterSwap", () => {
  const field = typing && document.querySelector(`#panel input[name="${typing.name}"]`);
  if (!field) return;
  if (typing.dirty) {
    field.value = typing.value;
    field.addEventListener("focusout", () => { if (field.value !== field.defaultValue) field.dispatchEvent(new Event("change", { bubbles: true })); }, { once: true });
  }
  field.focus();
  field.setSelectionRange(typing.from, typing.to);
  typing = null;
});

async function afterUpload(said) {
  hideFinding();
  await loadMeshes(false);
  await htmx.ajax("GET", `${base}/panel/meshes`, "#panel");
  if (said.length) toast(said.join(" "));
}

function tendPanel() {
  const drop = $("panel-drop");
  if (!drop || drop.dataset.tended) return;
  drop.dataset.tended = "yes";
  const post = (address, body) => json(address, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
  let added = 0, said = [];
  const take = uploadsInto($("panel-uploads"), async (answer) => {
    const done = await post(`${base}/meshes`, { token: answer.token, role: answer.role });
    added += 1; said.push(...done.said);
  });
  takeDrops(drop, async (files) => {
    added = 0; said = [];
    await take(files);
    if (added && !$("panel-uploads")?.querySelector(".problem")) await afterUpload(said);
    else if (added) await loadMeshes(false);
  });
  for (const row of document.querySelectorAll(".file")) {
    const replace = uploadsInto($("panel-uploads"), async (answer) => {
      const done = await post(`${base}/meshes/${row.dataset.mesh}/replace`, { token: answer.token });
      await afterUpload([`${answer.name} was taken in its place.`, ...done.said]);
    });
    takeDrops(row, (files) => replace(files.slice(0, 1)));
  }
  tendPairs();
}

// Parts are dragged from pair to pair, or moved by a small form.
function tendPairs() {
  const form = $("part-menu");
  if (!form) return;
  for (const part of document.querySelectorAll(".part")) {
    part.addEventListener("dragstart", (e) => { e.dataTransfer.setData("application/x-part", part.dataset.key); e.dataTransfer.effectAllowed = "move"; });
  }
  for (const row of document.querySelectorAll(".pair-row")) {
    const carries = (e) => e.dataTransfer.types.includes("application/x-part");
    row.addEventListener("dragover", (e) => { if (carries(e)) { e.preventDefault(); row.classList.add("over"); } });
    row.addEventListener("dragleave", () => row.classList.remove("over"));
    row.addEventListener("drop", (e) => {
      if (!carries(e)) return;
      e.preventDefault();
      htmx.ajax("POST", `${base}/parts`, { target: "#panel", values: { key: e.dataTransfer.getData("application/x-part"), pair: row.dataset.pair } });
    });
  }
  for (const button of document.querySelectorAll("[data-menu]")) {
    button.addEventListener("click", () => {
      form.reset();
      form.querySelector("[name=key]").value = button.dataset.menu;
      $("part-menu-name").textContent = button.dataset.menu;
      form.hidden = false;
      button.closest(".part").after(form);
      form.querySelector("select").focus();
    });
  }
  $("part-menu-close").addEventListener("click", () => { form.hidden = true; });
  $("pair-search")?.addEventListener("input", (e) => {
    const wanted = e.target.value.toLowerCase();
    for (const row of document.querySelectorAll(".pair-row, #alone .part")) row.hidden = !row.textContent.toLowerCase().includes(wanted);
  });
}
// The reach rule of the step Cage: while a handle is dragged the server measures what the tried reach would hold.

let rule = null, trying = null;
function tendReach() {
  const svg = $("reach-rule");
  if (!svg) { if (rule) { rule = null; model.setPoints(null); } return; }
  if (svg.dataset.tended) return;
  svg.dataset.tended = "yes";
  const scope = encodeURIComponent(svg.dataset.scope);
  rule = new ReachRule(svg, tryReach, (reach) => {
    for (const name of ["outward", "inward"]) {
      const field = document.querySelector(`#panel input[name$=".${name}"]`), value = Number((reach[name] / rule.scale).toPrecision(3)).toString();
      if (field && field.value !== value) { field.value = value; field.dispatchEvent(new Event("change", { bubbles: true })); return; }
    }
  });
  async function tryReach(reach) {
    const first = !trying;
    trying = { ...reach };
    if (!first) return;
    while (trying) {
      const { outward, inward } = trying, { scale } = rule;
      const query = `scope=${scope}&outward=${outward / scale}&inward=${inward / scale}`;
      const answer = await fetch(`${base}/coverage?${query}`);
      if (answer.ok && $("coverage")) { $("coverage").innerHTML = await answer.text(); showCoverage(query); }
      if (trying && trying.outward === outward && trying.inward === inward) trying = null;
    }
  }
}

async function showCoverage(query) {
  const covered = $("covered");
  if (!covered || !rule) return;
  rule.setRule(JSON.parse(covered.dataset.rule));
  const { arrays } = await fetchMesh(`${base}/coverage/points?${query}`);
  if ($("reach-rule")) model.setPoints(arrays.points);
}
document.body.addEventListener("htmx:afterSettle", (e) => {
  tendReach();
  if (e.detail.target?.id === "coverage") showCoverage(`scope=${encodeURIComponent($("reach-rule").dataset.scope)}`).catch((error) => toast(error.message));
});
document.body.addEventListener("click", async (e) => {
  if (e.target.id === "show-folds") {
    const { header, arrays } = await fetchMesh(`${base}/coverage/folds?scope=${encodeURIComponent($("reach-rule").dataset.scope)}`);
    setShow("low");
    model.showMarks(arrays.corners, header.place); sheet.setHatched(arrays.uvs);
    return;
  }
  const place = e.target.dataset?.place?.split(",").map(Number);
  if (!place) return;
  setShow(e.target.dataset.showAs || "sculpt");
  model.turnTo(new Float32Array(0), [place.slice(0, 3), place[3]]);
});
tendReach();

// Pockets: placed by a click, dragged by their middle, with Shift made larger or smaller.

let placing = false, held = null;
function tendPockets() {
  const list = $("pockets"), add = $("add-pocket");
  model.setPockets(list ? JSON.parse(list.dataset.pockets) : []);
  if (!add) { placing = false; return; }
  add.setAttribute("aria-pressed", placing);
  if (add.dataset.tended) return;
  add.dataset.tended = "yes";
  add.onclick = () => { placing = !placing; add.setAttribute("aria-pressed", placing); if (placing) setShow("low"); };
}
const postPanel = (address, values) => htmx.ajax("POST", `${base}/${address}`, { target: "#panel", values });
model.canvas.addEventListener("pointerdown", (e) => {
  const ball = !placing && !brush.on && model.pocketAt(e);
  if (!ball) return;
  held = { ball, shift: e.shiftKey, x: e.clientX, radius: ball.userData.radius, moved: false };
  model.controls.enabled = false;
  model.canvas.setPointerCapture(e.pointerId);
});
model.canvas.addEventListener("pointermove", (e) => {
  if (!held) return;
  held.moved = true;
  if (held.shift) { held.scale = Math.max(0.05, 1 + (e.clientX - held.x) / 120); held.ball.scale.setScalar(held.scale); }
  else { const at = model.uvAt(e); if (at) { held.at = at.place; held.ball.position.set(...at.place); } }
  model.draw();
});
model.canvas.addEventListener("pointerup", async (e) => {
  if (held) {
    const { ball, at, scale } = held;
    held = null; model.controls.enabled = true;
    if (scale) postPanel(`pockets/${ball.userData.number}`, { radius: Number((ball.userData.radius * scale / rule.scale).toPrecision(3)) });
    else if (at) postPanel(`pockets/${ball.userData.number}`, { x: at[0], y: at[1], z: at[2] });
    return;
  }
  if (!placing || !pressedAt || Math.hypot(e.clientX - pressedAt[0], e.clientY - pressedAt[1]) > 3) return;
  const at = model.uvAt(e);
  if (!at) return;
  placing = false;
  const [x, y, z] = at.place;
  await sendToCage("pockets", { x, y, z });
});
async function sendToCage(address, values) {
  try { await json(`${base}/${address}`, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(values) }); }
  catch (error) { toast(error.message); return; }
  await htmx.ajax("GET", `${base}/panel/cage${location.search}`, "#panel");
  await loadCage();
}
const brush = new Brush(model, (stroke) => sendToCage("nudges", stroke), () => { placing = false; setShow("low"); });
document.body.addEventListener("htmx:afterSettle", (e) => { if (e.detail.target?.id === "panel") { tendPockets(); brush.tend(); tellForms(); } });
tendPockets();
brush.tend();

document.body.addEventListener("htmx:afterSettle", tendPanel);
tendPanel();
setShow("low");
loadMeshes().catch((error) => { $("model-note").textContent = error.message; });

