// The meshes of the piece in both views: lows, sculpts, cages and the lines of the UVs.
import { $, json } from "../common/requests.js";
import { fetchMesh } from "../views/mesh_message.js";
import { NearSculpt } from "../views/near.js";
import { showBake } from "./bake_shown.js";
import { keepMove } from "./findings.js";
import { tend } from "./live.js";
import { base, model, sayProgress, state } from "./page.js";
import { parts } from "./pointer_link.js";
import { tendSurfaces } from "./surface.js";
import { showLines } from "./uv_lines.js";

// Low and UVs first, then the live proof and the sculpts' stand-ins side by side.
export async function loadMeshes(turn = true) {
  $("table").dataset.views = "loading";
  const done = sayProgress(() => $("model-note")),
    problems = [];
  const there = await json(`${base}/state`),
    before = model.box.clone();
  model.clear();
  keepMove();
  $("model-note").textContent = there.meshes ? "Loading the meshes …" : "No meshes yet. Add them in the step Meshes.";
  try {
    await fetchLow();
    if (model.low.header.triangles) {
      if (turn || before.isEmpty()) model.fit();
      $("table").dataset.views = "low";
    }
  } catch (error) {
    problems.push(error.message);
  }
  await showBake(there.facts);
  tend(there.facts, there.ready);
  const fitted = model.camera.position.clone();
  await Promise.all([loadCage(), ...there.sculpts.map(loadSculpt(problems))]);
  done();
  if (model.low?.header.triangles) {
    model.nameParts();
    parts.tend();
  }
  tendSurfaces();
  if (there.meshes) $("model-note").textContent = problems.join(" ");
  if (model.camera.position.equals(fitted) && (turn || before.isEmpty() || !before.equals(model.box))) model.fit();
  model.draw();
  const now = await json(`${base}/state`); // a bake may have ended while meshes were loaded
  if (now.facts && now.facts.id !== state.facts?.id && now.facts.id > (there.facts?.id ?? 0)) {
    await showBake(now.facts);
    tend(now.facts, now.ready);
  }
  $("table").dataset.views = "ready";
}

export const near = new NearSculpt(
  model,
  (id, [x, y, z], radius) => fetchMesh(`${base}/views/near?${new URLSearchParams({ mesh: id, x, y, z, radius })}`),
  (words) => {
    tendSurfaces();
    $("model-readout").textContent = words;
  },
);

const loadSculpt = (problems) => async (mesh) => {
  try {
    model.addSculpt(await fetchMesh(`${base}/views/sculpt?mesh=${mesh.id}`), mesh.id);
    model.draw();
  } catch (error) {
    problems.push(`${mesh.name}: ${error.message}`);
  }
};

async function fetchLow() {
  model.setLow(await fetchMesh(`${base}/views/low`));
  if (model.low.header.triangles) {
    model.nameParts();
    parts.tend();
  }
  showLines();
}

export async function loadLow() {
  await fetchLow();
  await loadCage();
}

export async function loadCage() {
  if (!model.low?.header.paired) {
    model.draw();
    return;
  }
  const found = await fetchMesh(`${base}/views/cage`);
  if (!found) return;
  model.setCage(found.arrays);
  forms = found.header.forms;
  tellForms();
}

// How the cage meshes from file are in force, in the server's words.
let forms = [];
export function tellForms() {
  $("cage-forms")?.replaceChildren(
    ...forms.map(({ pair, form, words, limited }) => {
      const line = document.createElement("p");
      line.className = form === "length" || limited ? "fault-line" : "soft";
      const name = document.createElement("b");
      name.textContent = `Cage of ${pair}. `;
      line.append(name, words);
      return line;
    }),
  );
}
