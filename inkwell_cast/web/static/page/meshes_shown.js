// The meshes of the piece in both views: lows, sculpts, cages and the lines of the UVs.
import { fetchMesh } from "../views/mesh_message.js";
import { showBake } from "./bake_shown.js";
import { $, base, json, model, sayProgress, sheet, state } from "./page.js";
import { parts } from "./pointer_link.js";

export async function loadMeshes(turn = true) {
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

export async function loadLow() {
  model.setLow(await fetchMesh(`${base}/views/low`));
  if (model.low.header.triangles) { model.nameParts(); parts.tend(); }
  await loadCage();
  showLines();
}

export async function loadCage() {
  if (!model.low?.header.paired) { model.draw(); return; }
  const found = await fetchMesh(`${base}/views/cage`);
  if (!found) return;
  model.setCage(found.arrays);
  forms = found.header.forms;
  tellForms();
}

// How the cage meshes from file are in force, in the server's words.
let forms = [];
export function tellForms() {
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
export function showLines() {
  if (!model.low?.header.triangles) { sheet.setLines(null); return; }
  const { header, arrays } = model.low, number = header.sheets.findIndex((s) => s.name === state.sheet);
  const on = arrays.wireSheet ?? arrays.sheet;
  const one = state.facts && number >= 0;
  sheet.setLines(arrays.wire ?? arrays.uv, one ? (t) => on[t] === number : undefined);
  sheet.setSeams(arrays.seams ?? null, one ? (s) => arrays.seamSheet[s] === number : undefined);
}
