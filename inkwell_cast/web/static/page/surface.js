// How surfaces look in the model view: light, a raking light, what the map or the texels say, and the camera's turn of it.
import { showMap } from "./bake_shown.js";
import { $, model, state } from "./page.js";

const KEPT = "surface";
const kept = JSON.parse(localStorage.getItem(KEPT) || "{}");

function keep() { localStorage.setItem(KEPT, JSON.stringify({ light: $("light").value, roughness: $("roughness").value, metalness: $("metalness").value })); }
function apply() {
  model.light = $("light").value * Math.PI / 180;
  model.roughness = Number($("roughness").value);
  model.metalness = Number($("metalness").value);
  model.draw();
}
for (const name of ["light", "roughness", "metalness"]) {
  if (kept[name] !== undefined) $(name).value = kept[name];
  $(name).addEventListener("input", () => { apply(); keep(); });
}
apply();

export function turnLight(by) { $("light").value = (Number($("light").value) + by + 360) % 360; $("light").dispatchEvent(new Event("input")); }

// A raking light from the side on which the pointer is.
export function setRake(on) { model.rake.z = on ? 1 : 0; model.draw(); }
model.canvas.addEventListener("pointermove", (e) => {
  if (!model.rake.z || e.buttons) return;
  const r = model.canvas.getBoundingClientRect();
  model.rake.set((e.clientX - r.left) / r.width * 2 - 1, 1 - (e.clientY - r.top) / r.height * 2, 1);
  model.draw();
});

// With Alt the pointer turns the light instead of the model.
let from = null;
model.canvas.addEventListener("pointerdown", (e) => {
  if (!e.altKey) return;
  from = e.clientX;
  model.canvas.setPointerCapture(e.pointerId);
  e.stopImmediatePropagation();
}, true);
model.canvas.addEventListener("pointermove", (e) => { if (from !== null) { turnLight((e.clientX - from) * 0.7); from = e.clientX; } });
addEventListener("pointerup", () => { from = null; });

// The angles to the sculpt instead of the map, and back.
let before = null;
export function setHeat(on) {
  const heat = "likeness";
  if (!state.facts?.maps.includes(heat)) return;
  if (on && state.choice !== heat) { before = state.choice; showMap(heat); }
  else if (!on && state.choice === heat) showMap(before || state.facts.maps[0]);
}
export function setSquares(on) { model.squares = on; model.draw(); }
