// How surfaces look in the model view: light, a raking light, what the map or the texels say, and the camera's turn of
// it.
import { onDrag } from "../common/drag.js";
import { $ } from "../common/requests.js";
import { showMap } from "./bake_shown.js";
import { Surfaces } from "../views/surfaces.js";
import { base, model, state } from "./page.js";

const KEPT = "surface",
  OWN = `surfaces:${base}`; // of all pieces; of this piece's materials, { name: [roughness, metalness] }
const kept = { light: 0, roughness: 0.3, metalness: 0, ...JSON.parse(localStorage.getItem(KEPT) || "{}") };
const own = JSON.parse(localStorage.getItem(OWN) || "{}"),
  surfaces = new Surfaces(model),
  of = $("surface-of");

function apply() {
  model.light = (kept.light * Math.PI) / 180;
  model.roughness = Number(kept.roughness);
  model.metalness = Number(kept.metalness);
  model.draw();
}
// The sliders as they stand for what is chosen: a material, or the whole.
function show() {
  const [roughness, metalness] = own[of.value] ?? [kept.roughness, kept.metalness];
  $("light").value = kept.light;
  $("roughness").value = roughness;
  $("metalness").value = metalness;
}
$("light").addEventListener("input", () => {
  kept.light = $("light").value;
  apply();
  localStorage.setItem(KEPT, JSON.stringify(kept));
});
for (const name of ["roughness", "metalness"])
  $(name).addEventListener("input", () => {
    if (of.value) {
      own[of.value] = [Number($("roughness").value), Number($("metalness").value)];
      surfaces.wear(own);
      localStorage.setItem(OWN, JSON.stringify(own));
    } else {
      kept[name] = $(name).value;
      apply();
      localStorage.setItem(KEPT, JSON.stringify(kept));
    }
  });
of.addEventListener("change", show);
apply();
show();

// The materials of meshes that were loaded anew, each with what was chosen for it.
export function tendSurfaces() {
  const chosen = of.value,
    { names } = surfaces;
  of.replaceChildren(new Option("everything", ""), ...names.map((name) => new Option(name, name)));
  of.value = names.includes(chosen) ? chosen : "";
  of.parentElement.hidden = names.length < 2;
  show();
  if (Object.keys(own).length) surfaces.wear(own);
}

export function turnLight(by) {
  $("light").value = (Number($("light").value) + by + 360) % 360;
  $("light").dispatchEvent(new Event("input"));
}

// A raking light from the side on which the pointer is.
export function setRake(on) {
  model.rake.z = on ? 1 : 0;
  model.draw();
}
model.canvas.addEventListener("pointermove", (e) => {
  if (!model.rake.z || e.buttons) return;
  const r = model.canvas.getBoundingClientRect();
  model.rake.set(((e.clientX - r.left) / r.width) * 2 - 1, 1 - ((e.clientY - r.top) / r.height) * 2, 1);
  model.draw();
});

// With Alt the pointer turns the light instead of the model.
let from = 0;
onDrag(
  model.canvas,
  {
    begin: (e) => {
      from = e.clientX;
      return e.altKey;
    },
    move: (e) => {
      turnLight((e.clientX - from) * 0.7);
      from = e.clientX;
    },
    end: () => {},
  },
  true,
);

// The angles to the sculpt instead of the map, and back.
let before = null;
export function setHeat(on) {
  const heat = "likeness";
  if (!state.facts?.maps.includes(heat)) return;
  if (on && state.choice !== heat) {
    before = state.choice;
    showMap(heat);
  } else if (!on && state.choice === heat) showMap(before || state.facts.maps[0]);
}
export function setSquares(on) {
  model.squares = on;
  model.draw();
}
