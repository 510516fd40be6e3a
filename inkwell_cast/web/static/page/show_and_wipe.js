// What the model view shows: low, sculpt, both or a wipe, also between two bakes.
import { across, onDrag } from "../common/drag.js";
import { $ } from "../common/requests.js";
import { CompareBakes } from "../tools/compare_bakes.js";
import { loadBitmaps, onMapShown, showMap } from "./bake_shown.js";
import { keep } from "./live.js";
import { base, model, sheet, state, toast } from "./page.js";

export const against = new CompareBakes(base, model, sheet, {
  load: loadBitmaps,
  shown: () => state,
  changed: placeAgainst,
  keep,
});
onMapShown(() => against.dress());

document.addEventListener("click", (e) => {
  const key = e.target.closest("[data-map]")?.dataset.map;
  if (key && state.facts?.maps.includes(key)) showMap(key);
});
export const shows = ["low", "sculpt", "both", "wipe"];
export function setShow(name) {
  model.show = name;
  for (const chip of document.querySelectorAll("[data-show]"))
    chip.setAttribute("aria-pressed", chip.dataset.show === name);
  placeAgainst();
  $("model-note").textContent = "";
  if (name !== "low" && model.standIn)
    $("model-readout").textContent = "The sculpt is drawn through a lighter stand-in; bakes use every triangle.";
  placeWipe();
  model.draw();
}
function placeWipe() {
  $("wipe").style.left = `${model.wipe * 100}%`;
  $("wipe").setAttribute("aria-valuenow", Math.round(model.wipe * 100));
}
function setWipe(share) {
  model.wipe = sheet.wipe = Math.min(Math.max(share, 0.02), 0.98);
  placeWipe();
  model.draw();
  sheet.draw();
}
function placeAgainst() {
  const bakes = model.show === "low" && model.other,
    [left, right] = $("wipe").children;
  const wiping = model.show === "wipe" || (bakes && !model.flipped && !model.difference);
  $("beside").hidden = !wiping;
  $("beside").setAttribute("aria-pressed", model.beside);
  $("wipe").hidden = !wiping || model.beside;
  left.textContent = bakes ? "shown" : "low";
  right.textContent = bakes ? (against.facts?.name ?? "") : "sculpt";
  $("wipe").setAttribute("aria-label", bakes ? "Wipe between two bakes" : "Wipe between low and sculpt");
  $("against").hidden = !model.other;
  $("against-differ").setAttribute("aria-pressed", model.difference);
  if (model.other)
    $("against-words").textContent = model.difference
      ? `eight times what differs from ${against.facts.name}`
      : model.flipped
        ? `${against.facts.name}, alone`
        : `${model.beside ? "beside" : "wiped against"} ${against.facts.name}`;
}
export function setBeside(on = !model.beside) {
  model.beside = on;
  placeAgainst();
  model.draw();
}
$("beside").onclick = () => setBeside();
onDrag($("wipe"), { begin: () => true, move: (e) => setWipe(across($("model"), e)), end: () => {} });
$("wipe").addEventListener("keydown", (e) => {
  if (e.key === "ArrowLeft" || e.key === "ArrowRight") {
    setWipe(model.wipe + (e.key === "ArrowLeft" ? -0.02 : 0.02));
    e.preventDefault();
  }
});

document.addEventListener("click", (e) => {
  const id = e.target.closest("[data-compare]")?.dataset.compare;
  if (id) {
    setShow("low");
    against.open(id).catch((error) => toast(error.message));
  }
});
$("against-flip").onclick = () => against.flip();
$("against-differ").onclick = () => against.differ();
$("against-close").onclick = () => against.close();
