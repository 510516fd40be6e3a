// The page of a piece: joins the two views, the keyboard and the fragments that the server sends.
import { fetchMesh, ModelView } from "./model.js";
import { SheetView } from "./sheet.js";
import { takeDrops, uploadsInto } from "./upload.js";

const $ = (id) => document.getElementById(id);
const base = `/pieces/${$("table").dataset.piece}`;
const plain = new URLSearchParams(location.search).has("plain"); // no antialiasing, for slow machines
const model = new ModelView($("model"), { antialias: !plain });
const sheet = new SheetView($("sheet"));
const state = { facts: null, key: null, bitmaps: new Map() };

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

async function loadMeshes() {
  $("table").dataset.views = "loading";
  const facts = await json(`${base}/state`);
  model.clear();
  $("model-note").textContent = facts.meshes.length ? "Loading the meshes …" : "No meshes yet. Add them in the step Meshes.";
  const problems = [];
  for (const mesh of facts.meshes) {
    try { model.add(mesh.role, await fetchMesh(`${base}/meshes/${mesh.id}/view`)); }
    catch (error) { problems.push(`${mesh.name}: ${error.message}`); }
  }
  if (facts.meshes.length) $("model-note").textContent = problems.join(" ");
  model.setReach(facts.reach);
  sheet.setLines(model.lows.map((low) => low.arrays.uv));
  model.fit();
  await showBake(facts.facts);
  $("table").dataset.views = "ready";
}

// bakes and maps

async function showBake(facts) {
  state.facts = facts;
  for (const pair of state.bitmaps.values()) (await pair).flipped.close?.();
  state.bitmaps.clear();
  const chips = $("map-chips");
  chips.replaceChildren();
  model.setPin(null); sheet.setMark(null);
  if (!facts) {
    $("sheet-note").textContent = "The sheet fills when you bake. These are the UVs of the low.";
    $("sheet-fact").textContent = "";
    sheet.setMap(null, [1, 1]);
    model.setMap(null, null, null);
    return;
  }
  $("sheet-note").textContent = "";
  const old = facts.stale ? `, ${facts.stale} changed since` : "";
  $("sheet-fact").textContent = `${facts.width} × ${facts.height}, ${facts.seconds}${old}`;
  for (const key of facts.maps) {
    const chip = document.createElement("button");
    chip.className = "chip"; chip.textContent = facts.labels[key]; chip.dataset.key = key;
    chip.onclick = () => showMap(key);
    chips.append(chip);
  }
  await showMap(facts.maps.includes(state.key) ? state.key : facts.maps[0]);
}

async function showMap(key) {
  state.key = key;
  for (const chip of $("map-chips").children) chip.setAttribute("aria-pressed", chip.dataset.key === key);
  const facts = state.facts;
  if (!state.bitmaps.has(key)) state.bitmaps.set(key, loadBitmaps(`${base}/bakes/${facts.id}/${key}.png`));
  try {
    const { upright, flipped } = await state.bitmaps.get(key);
    if (state.facts !== facts || state.key !== key) return;
    sheet.setMap(upright, [facts.width, facts.height]);
    model.setMap(facts.stale === "meshes" ? null : flipped, facts, key);
    if (facts.stale === "meshes") $("sheet-note").textContent = "The meshes changed since this bake, so the model does not wear it.";
  } catch (error) { state.bitmaps.delete(key); toast(error.message); }
}

async function loadBitmaps(address) {
  const response = await fetch(address);
  if (!response.ok) throw new Error(`The map could not be loaded (${response.status}).`);
  const blob = await response.blob(), exact = { premultiplyAlpha: "none", colorSpaceConversion: "none" };
  return { upright: await createImageBitmap(blob, exact), flipped: await createImageBitmap(blob, { ...exact, imageOrientation: "flipY" }) };
}

// one pointer in both views

let asking = null, wanted = null;
async function pointAt(texel) {
  sheet.setMark(texel);
  wanted = texel;
  if (asking || !state.facts) return;
  asking = true;
  while (wanted) {
    const [x, y] = wanted;
    wanted = null;
    try { readOut(await json(`${base}/bakes/${state.facts.id}/texel?x=${x}&y=${y}`)); } catch (error) { toast(error.message); }
  }
  asking = false;
}

function readOut(found) {
  const p = found.probe, short = (v) => (Math.abs(v) < 1e-4 * (p.outward + p.inward) ? "0" : Number(v.toPrecision(3)).toString());
  model.setPin(p || null);
  const words = Object.entries(found.maps).map(([key, v]) => `${state.facts.labels[key].toLowerCase()} ${v.map((c) => c.toFixed(2)).join(" ")}`);
  const uv = p ? `u ${p.uv[0].toFixed(4)} v ${p.uv[1].toFixed(4)} · ` : "";
  $("sheet-readout").textContent = `texel ${found.texel.join(", ")} · ${uv}${words.join(" · ")}`;
  const line = $("model-readout");
  if (!p) { line.textContent = "Off the low, or the engine is busy."; return; }
  const struck = p.hit_object === null ? "<b>struck nothing</b>" : `struck <b></b> at ${short(p.height)} · angle ${p.angle.toFixed(1)}°`;
  line.innerHTML = `triangle ${p.triangle} · reach ${short(p.outward)} / ${short(p.inward)} · ${struck}`;
  if (p.hit_object !== null) line.querySelector("b").textContent = p.hit_object;
}

sheet.canvas.addEventListener("pointermove", (e) => { const t = !sheet.drag && state.facts && sheet.texelAt(e); if (t) pointAt(t); });
let modelMove = 0;
model.canvas.addEventListener("pointermove", (e) => {
  if (e.buttons || modelMove || !state.facts || state.facts.stale === "meshes") return;
  modelMove = requestAnimationFrame(() => {
    modelMove = 0;
    const at = model.uvAt(e), [w, h] = [state.facts.width, state.facts.height];
    if (at) pointAt([Math.min(Math.max(Math.floor(at.u * w), 0), w - 1), Math.min(Math.max(Math.floor((1 - at.v) * h), 0), h - 1)]);
  });
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
  l: toggle("lit", (on) => { model.lit = on; model.draw(); }),
  u: toggle("uvs-on", (on) => { sheet.uvsOn = on; sheet.draw(); }),
};
for (const chip of document.querySelectorAll("[data-show]")) chip.onclick = () => setShow(chip.dataset.show);

document.addEventListener("keydown", (e) => {
  if (e.key === "Escape" && e.target.matches("input")) e.target.blur(); // back to the keys of the page
  if (e.ctrlKey || e.metaKey || e.altKey || (e.target.matches("input:not([type=radio]):not([type=checkbox]), select, textarea"))) return;
  const key = e.key.toLowerCase();
  if (flips[key]) flips[key]();
  else if (key === "w") setShow(shows[(shows.indexOf(model.show) + 1) % 3]);
  else if (key === "p") $("proof")?.click();
  else if (key === "b") $("full-bake")?.click();
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
  model.setReach(e.detail.reach);
  const facts = e.detail.facts;
  if (facts && state.facts?.id === facts.id) { state.facts.stale = facts.stale; $("sheet-fact").textContent = `${facts.width} × ${facts.height}, ${facts.seconds}${facts.stale ? `, ${facts.stale} changed since` : ""}`; }
});
document.body.addEventListener("meshes-changed", () => loadMeshes().catch((error) => toast(error.message)));
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

function tendPanel() {
  const drop = $("panel-drop");
  if (!drop || drop.dataset.tended) return;
  drop.dataset.tended = "yes";
  let added = 0;
  const take = uploadsInto($("panel-uploads"), async (answer) => {
    await json(`${base}/meshes`, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ token: answer.token, role: answer.role }) });
    added += 1;
  });
  takeDrops(drop, async (files) => {
    added = 0;
    await take(files);
    if (!added) return;
    await loadMeshes();
    if (!$("panel-uploads")?.querySelector(".problem")) htmx.ajax("GET", `${base}/panel/meshes`, "#panel");
    document.body.dispatchEvent(new CustomEvent("settings-changed", { detail: { reach: model.reach, facts: null } }));
  });
}
document.body.addEventListener("htmx:afterSettle", tendPanel);
tendPanel();
setShow("low");
loadMeshes().catch((error) => { $("model-note").textContent = error.message; });

