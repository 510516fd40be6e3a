// The page of a piece: joins the two views, the keyboard and the fragments that the server sends.
import { Against } from "./against.js";
import { Brush } from "./brush.js";
import { Cover } from "./cover.js";
import { Hand } from "./hand.js";
import { Leaving } from "./handoff.js";
import { MeshesPanel } from "./meshes.js";
import { fetchMesh, ModelView } from "./model.js";
import { Parts } from "./parts.js";
import { Pockets } from "./pockets.js";
import { RangeRule } from "./range.js";
import { sendPictures } from "./sends.js";
import { Slice } from "./slice.js";
import { SheetView } from "./sheet.js";

const $ = (id) => document.getElementById(id);
const base = `/pieces/${$("table").dataset.piece}`;
const plain = new URLSearchParams(location.search).has("plain"); // no antialiasing, for slow machines
const model = new ModelView($("model"), { antialias: !plain });
const sheet = new SheetView($("sheet"));
const MOST_CHIPS = 3;
const state = { facts: null, key: null, choice: null, sheet: "", bitmaps: new Map() };
const against = new Against(base, model, sheet, { load: loadBitmaps, shown: () => state, changed: () => placeAgainst() });

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

// While something waits for the engine, say there what it is doing.
function sayProgress(place) {
  let over = false;
  const timer = setInterval(async () => {
    const { words, share } = await json("/at-work").catch(() => ({}));
    if (!place().isConnected) clearInterval(timer);
    else if (words && !over) place().textContent = `${words}, ${Math.round(share * 100)} %`;
  }, 600);
  return () => { over = true; clearInterval(timer); };
}

async function loadMeshes(turn = true) {
  $("table").dataset.views = "loading";
  const done = sayProgress(() => $("model-note"));
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
  await showBake((await json(`${base}/state`)).facts); // a bake may have ended while meshes were loaded
  $("table").dataset.views = "ready";
}

async function loadLow() {
  model.setLow(await fetchMesh(`${base}/views/low`));
  if (model.low.header.triangles) { model.nameParts(); parts.tend(); }
  await loadCage();
  showLines();
}

async function loadCage() {
  if (!model.low?.header.paired) { model.draw(); return; }
  const found = await fetchMesh(`${base}/views/cage`);
  if (!found) return;
  model.setCage(found.arrays);
  forms = found.header.forms;
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
  const on = arrays.wireSheet ?? arrays.sheet;
  const one = state.facts && number >= 0;
  sheet.setLines(arrays.wire ?? arrays.uv, one ? (t) => on[t] === number : undefined);
  sheet.setSeams(arrays.seams ?? null, one ? (s) => arrays.seamSheet[s] === number : undefined);
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
  const choices = facts.maps.map((key) => [facts.labels[key], key]);
  if (facts.maps.includes("normal") && facts.maps.includes("occlusion")) choices.push(["Normal and occlusion", TOGETHER]);
  if (choices.length > MOST_CHIPS) {
    const list = document.createElement("select");
    list.className = "chip"; list.id = "map-choice"; list.setAttribute("aria-label", "Map");
    list.append(...choices.map(([words, key]) => new Option(words, key)));
    list.addEventListener("change", () => showMap(list.value));
    chips.append(list);
  } else for (const [words, key] of choices) {
    const chip = document.createElement("button");
    chip.className = "chip"; chip.textContent = words; chip.dataset.key = key;
    chip.onclick = () => showMap(key);
    chips.append(chip);
  }
  await showMap(choices.some(([, key]) => key === state.choice) ? state.choice : facts.maps[0]);
}

function sheetSize() {
  const found = state.facts.sheets.find((s) => s.name === state.sheet);
  return [found.width, found.height];
}

const TOGETHER = "normal+occlusion"; // both at once, under a light that can be turned

async function showMap(wanted) {
  const together = wanted === TOGETHER, key = together ? "normal" : wanted;
  state.key = key; state.choice = wanted;
  for (const chip of $("map-chips").children) chip.setAttribute("aria-pressed", chip.dataset.key === wanted);
  if ($("map-choice")) $("map-choice").value = wanted;
  const facts = state.facts;
  const kept = (name) => { if (!state.bitmaps.has(name)) state.bitmaps.set(name, loadBitmaps(facts, name)); return state.bitmaps.get(name); };
  const flipped = (made) => Object.fromEntries(Object.entries(made).map(([name, m]) => [name, m.flipped]));
  try {
    const made = await kept(key), shade = together ? await kept("occlusion") : null;
    if (state.facts !== facts || state.choice !== wanted) return;
    const old = facts.stale ? `, ${facts.stale} changed since` : "", size = sheetSize();
    $("sheet-fact").textContent = `${size[0]} × ${size[1]}, ${facts.seconds}${old}`;
    $("sheet-choice").value = state.sheet;
    sheet.setMap(made[state.sheet].upright, size);
    model.setMap(facts.stale === "meshes" ? null : flipped(made), facts, key);
    model.setShade(shade && facts.stale !== "meshes" ? flipped(shade) : null);
    if (facts.stale === "meshes") $("sheet-note").textContent = "The meshes changed since this bake, so the model does not wear it.";
    showLines();
    await against.dress();
  } catch (error) { state.bitmaps.delete(key); toast(error.message); }
}

async function loadBitmaps(facts, key) {
  const made = {}, exact = { premultiplyAlpha: "none", colorSpaceConversion: "none" };
  for (const { name } of facts.sheets) {
    const response = await fetch(`${base}/bakes/${facts.id}/${key}.png?most=${model.largest}&sheet=${encodeURIComponent(name)}`);
    if (!response.ok) throw new Error(`The map could not be loaded (${response.status}).`);
    const blob = await response.blob();
    made[name] = { upright: await createImageBitmap(blob, exact), flipped: await createImageBitmap(blob, { ...exact, imageOrientation: "flipY" }) };
  }
  return made;
}

$("sheet-choice").addEventListener("change", () => { state.sheet = $("sheet-choice").value; sheet.setMark(null); showMap(state.choice); });

// findings of the checks, and flaws of a bake

async function showFinding(summary) {
  moveSculpt(null);
  const { header, arrays } = await fetchMesh(summary.dataset.marks);
  if (header.place) { setShow(header.low ? "low" : "sculpt"); if (model.spread || model.hiddenParts.size) parts.all(); }
  model.showMarks(arrays.corners, header.place);
  sheet.setHatched(arrays.uvs);
  if (arrays.uvs.length) sheet.turnTo(arrays.uvs);
}
function hideFinding() { moveSculpt(null); model.clearMarks(); model.draw(); sheet.setHatched(null); sheet.fit(); }

// Where a fix would lay the sculpt, shown before it is chosen; null for where it lies.
function moveSculpt(button) {
  const on = button?.getAttribute("aria-pressed") === "false";
  for (const each of document.querySelectorAll("[data-move]")) each.setAttribute("aria-pressed", on && each === button);
  model.setMoved(on ? button.dataset.move.split(" ").map(Number) : null);
  if (!button) return;
  setShow("both");
  const [low, high] = model.low.header.bounds, middle = low.map((c, k) => (c + high[k]) / 2);
  model.turnTo(new Float32Array(0), [middle, Math.hypot(...low.map((c, k) => high[k] - c)) / 2], 0);
}
document.body.addEventListener("click", (e) => { const button = e.target.closest?.("[data-move]"); if (button) moveSculpt(button); });

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

let pointed = null; // the low's triangle under the pointer
const parts = new Parts(model, () => pointed !== null && model.partOf(pointed));

// The texel of a triangle of the low at its UVs, as [column, row], and its sheet; sheets without a bake are unit squares.
function texelOf(triangle, [u, v]) {
  const { header, arrays } = model.low, name = header.sheets[arrays.sheet[triangle]]?.name;
  if (name === undefined) return null;
  const found = state.facts?.sheets.find((s) => s.name === name), frac = (c) => c - Math.floor(c);
  if (!found) return { sheet: name, at: [frac(u) - 0.5, 0.5 - frac(v)] };
  const at = (share, size) => Math.min(Math.floor(share * size), size - 1);
  return { sheet: name, at: [at(frac(u), found.width), at(1 - frac(v), found.height)] };
}

let asking = null, wanted = null;
async function pointAt(texel, name, follow = true) {
  sheet.setMark(name === state.sheet ? texel : null);
  wanted = [...texel, name, follow];
  if (asking || !state.facts) return;
  asking = true;
  while (wanted) {
    const [x, y, at, cut] = wanted;
    wanted = null;
    try { readOut(await json(`${base}/bakes/${state.facts.id}/texel?x=${x}&y=${y}&sheet=${encodeURIComponent(at)}`), cut); } catch (error) { toast(error.message); }
  }
  asking = false;
}

function readOut(found, cut) {
  const p = found.probe, short = (v) => (Math.abs(v) < 1e-4 * (p.outward + p.inward) ? "0" : Number(v.toPrecision(3)).toString());
  model.setPin(p || null);
  if (p && cut) slice.at({ triangle: p.triangle, place: p.place });
  const words = Object.entries(found.maps).sort(([a]) => (a === state.key ? -1 : 0)).map(([key, v]) => `${state.facts.labels[key].toLowerCase()} ${v}`);
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
    pointed = at ? at.triangle : null;
    if (at) slice.at(at);
    const texel = at?.uv && state.facts && state.facts.stale !== "meshes" && texelOf(at.triangle, at.uv);
    if (texel) pointAt(texel.at, texel.sheet);
  });
});

// the drawer's leaves

const slice = new Slice(base, model, toast, (triangle, uv, place) => {
  model.setPin(place);
  const texel = uv && texelOf(triangle, uv);
  if (texel && state.facts && state.facts.stale !== "meshes") pointAt(texel.at, texel.sheet, false);
  else sheet.setMark(texel && texel.sheet === state.sheet ? texel.at : null);
});

function showLeaf(name) {
  for (const leaf of document.querySelectorAll(".leaf")) leaf.setAttribute("aria-selected", leaf.dataset.leaf === name);
  $("section-leaf").hidden = $("section-tools").hidden = name !== "section";
  $("bakes-leaf").hidden = name !== "bakes";
  if (name === "section") slice.open();
}
for (const leaf of document.querySelectorAll(".leaf")) leaf.addEventListener("click", () => showLeaf(leaf.dataset.leaf));

let pressedAt = null;
model.canvas.addEventListener("pointerdown", (e) => { pressedAt = [e.clientX, e.clientY]; });
const clicked = (e) => pressedAt && Math.hypot(e.clientX - pressedAt[0], e.clientY - pressedAt[1]) <= 3;
model.canvas.addEventListener("pointerup", (e) => { if (clicked(e)) slice.pin(model.uvAt(e)); });

// chips and keys

document.addEventListener("click", (e) => { const key = e.target.closest("[data-map]")?.dataset.map; if (key && state.facts?.maps.includes(key)) showMap(key); });
const shows = ["low", "sculpt", "both", "wipe"];
function setShow(name) {
  model.show = name;
  for (const chip of document.querySelectorAll("[data-show]")) chip.setAttribute("aria-pressed", chip.dataset.show === name);
  placeAgainst();
  $("model-note").textContent = "";
  if (name !== "low" && model.standIn) $("model-readout").textContent = "The sculpt is drawn through a lighter stand-in; bakes use every triangle.";
  placeWipe();
  model.draw();
}
function placeWipe() {
  $("wipe").style.left = `${model.wipe * 100}%`;
  $("wipe").setAttribute("aria-valuenow", Math.round(model.wipe * 100));
}
function setWipe(share) { model.wipe = sheet.wipe = Math.min(Math.max(share, 0.02), 0.98); placeWipe(); model.draw(); sheet.draw(); }
function placeAgainst() {
  const bakes = model.show === "low" && model.other, [left, right] = $("wipe").children;
  $("wipe").hidden = model.show !== "wipe" && (!bakes || model.flipped);
  left.textContent = bakes ? "shown" : "low";
  right.textContent = bakes ? against.facts?.name ?? "" : "sculpt";
  $("wipe").setAttribute("aria-label", bakes ? "Wipe between two bakes" : "Wipe between low and sculpt");
  $("against").hidden = !model.other;
  if (model.other) $("against-words").textContent = model.flipped ? `${against.facts.name}, alone` : `wiped against ${against.facts.name}`;
}
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
$("light").addEventListener("input", () => { model.light = $("light").value * Math.PI / 180; model.draw(); });
document.addEventListener("click", (e) => {
  const id = e.target.closest("[data-compare]")?.dataset.compare;
  if (id) { setShow("low"); against.open(id).catch((error) => toast(error.message)); }
});
$("against-flip").onclick = () => against.flip();
$("against-close").onclick = () => against.close();

// Do what a button does, also in the moment in which it was drawn anew and does not listen yet.
function act(button) { if (button && !button.disabled) ask("POST", button.getAttribute("hx-post"), button.getAttribute("hx-target")); }
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
  else if ((key === "," || key === ".") && state.facts) { const all = state.facts.maps; showMap(all[(all.indexOf(state.key) + (key === "." ? 1 : all.length - 1)) % all.length]); }
  else if (key === "w") setShow(shows[(shows.indexOf(model.show) + 1) % shows.length]);
  else if (key === "p") act($("proof"));
  else if (key === "b") act($("full-bake"));
  else if (key === "s") showLeaf(slice.shown ? "bakes" : "section");
  else if (key === "j") stepFinding(1);
  else if (key === "a") act(document.querySelector("#trial [data-mend]") || document.querySelector(".finding > details[open] [data-mend]"));
  else if (key === "t") act(document.querySelector(".finding > details[open] [data-try]"));
  else if (key === "x" && model.other) against.flip();
  else if (key === "h" || key === "i") parts.key(key === "i");
  else if (key === "[" || key === "]") { $("light").value = (Number($("light").value) + (key === "]" ? 15 : 345)) % 360; $("light").dispatchEvent(new Event("input")); }
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

// Requests of the page's own, one after the other: side by side, htmx keeps only the last of those that wait.
let asked = Promise.resolve();
function ask(verb, address, options) { return asked = asked.then(() => htmx.ajax(verb, address, options)).catch(() => {}); }
const stepHere = () => document.querySelector("#steps .here")?.getAttribute("hx-get");
let baking = false; // whether the bake box showed a bake at work when last looked at
let peeked = "";
async function peek({ bake, peek: mark }) {
  if (!mark || mark === peeked) return;
  peeked = mark;
  const response = await fetch(`${base}/bakes/${bake}/peek.png`);
  if (response.status !== 200) return;
  const bitmap = await createImageBitmap(await response.blob());
  if (!baking) return;
  $("sheet-note").textContent = "As far as it is baked.";
  sheet.setMap(bitmap, [bitmap.width, bitmap.height]);
}
function followBake() {
  const box = document.querySelector("#bake-box .baking"), now = !!box;
  if (box) peek(box.dataset).catch(() => {}); // the next look is soon
  const missed = baking && !now; // a panel brought the box of an ended bake before the bake's own request told of it
  baking = now;
  if (missed) ask("GET", `${base}/progress`, { source: "#bake-box", target: "#bake-box" });
}
// A change says which state of the settings this page shows, so that one made elsewhere meanwhile is not lost.
const tab = crypto.randomUUID?.() ?? String(Math.random());
document.body.addEventListener("htmx:configRequest", (e) => {
  e.detail.headers["X-Shown-Step"] = $("shown-step")?.dataset.step ?? "";
  e.detail.headers["X-Tab"] = tab;
});
document.body.addEventListener("htmx:afterSettle", followBake);
// The box that a bake's answer was meant for may have been replaced in the meantime, so the page looks for itself.
document.body.addEventListener("htmx:afterRequest", (e) => {
  if (!e.detail.successful || !/\/(bake|try|mend-all)(\?|$)/.test(e.detail.pathInfo?.requestPath ?? "")) return;
  baking = true;
  followBake();
});
followBake();
document.body.addEventListener("bake-ended", async (e) => {
  baking = false;
  model.clearMarks(); sheet.setHatched(null); // of a flaw of before
  if (e.detail.facts || peeked) await showBake(e.detail.facts || state.facts);
  peeked = "";
  const step = e.detail.facts ? `${base}/panel/review` : stepHere();
  if (step) ask("GET", step, "#panel").then(() => { if ($("trial") || $("mended")) $("panel").scrollTop = 0; });
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

// What was unfolded in the panel, and the open menu of a bake, stay so when they are drawn anew.
const unfolded = { panel: new Set(), "bakes-leaf": new Set() };
document.body.addEventListener("htmx:beforeSwap", (e) => {
  const { id } = e.detail.target;
  if (unfolded[id]) unfolded[id] = new Set([...document.querySelectorAll(`#${id} details[id][open]`)].map((d) => d.id));
});
function tendMaps() {
  for (const [id, open] of Object.entries(unfolded)) {
    for (const details of document.querySelectorAll(`#${id} details[id]`)) if (open.has(details.id)) details.open = true;
    open.clear(); // what is closed later stays closed
  }
  const change = (field, value) => { const input = document.querySelector(`#panel input[name="${field}"]`); input.value = value; input.dispatchEvent(new Event("change", { bubbles: true })); };
  for (const svg of document.querySelectorAll(".range-rule:not([data-tended])")) { svg.dataset.tended = "yes"; new RangeRule(svg, change); }
  for (const color of document.querySelectorAll("[data-id-name]:not([data-tended])")) {
    color.dataset.tended = "yes";
    color.addEventListener("change", (e) => { e.stopPropagation(); ask("POST", `${base}/id-color`, { target: "#panel", values: { name: color.dataset.idName, color: color.value } }); });
  }
}
document.body.addEventListener("htmx:afterSettle", tendMaps);
tendMaps();

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

sendPictures(toast);
const meshes = new MeshesPanel(base, {
  ask, json, partly: () => loadMeshes(false),
  changed: async (said) => {
    hideFinding();
    await loadMeshes(false);
    await ask("GET", `${base}/panel/meshes`, "#panel");
    if (said.length) toast(said.join(" "));
  },
});
const cover = new Cover(base, model, {
  toast, sayProgress,
  mark: (header, arrays) => { setShow("low"); model.showMarks(arrays.corners, header.place); sheet.setHatched(arrays.uvs); },
  turnTo: (place, show) => { setShow(show); model.turnTo(new Float32Array(0), [place.slice(0, 3), place[3]]); },
});

async function sendToCage(address, values) {
  try { await json(`${base}/${address}`, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(values) }); }
  catch (error) { toast(error.message); return; }
  await ask("GET", `${base}/panel/cage${location.search}`, "#panel");
  await loadCage();
}
const postPanel = (address, values) => ask("POST", `${base}/${address}`, { target: "#panel", values });
const pockets = new Pockets(model, {
  busy: () => brush.on, clicked, begin: () => setShow("low"), scale: () => cover.scale,
  add: ([x, y, z]) => sendToCage("pockets", { x, y, z }), change: (number, values) => postPanel(`pockets/${number}`, values),
});
const brush = new Brush(model, (stroke) => sendToCage("nudges", stroke), () => { pockets.placing = false; setShow("low"); });
const hand = new Hand(model, {
  clicked, begin: () => setShow("low"), send: (values) => postPanel("mends/place", values),
});
document.body.addEventListener("htmx:afterSettle", (e) => { if (e.detail.target?.id === "panel") { pockets.tend(); brush.tend(); hand.tend(); tellForms(); } });
pockets.tend();
brush.tend();
hand.tend();

const leaving = new Leaving(base, { ask, json, toast, sayProgress });
document.body.addEventListener("htmx:afterSettle", () => { meshes.tend(); leaving.tend(); });
meshes.tend();
setShow("low");
loadMeshes().catch((error) => { $("model-note").textContent = error.message; });

