// The keyboard of the page, and the buttons that keys press.
import { $ } from "../common/requests.js";
import { showMap } from "./bake_shown.js";
import { showLeaf } from "./drawer.js";
import { stepFinding } from "./findings.js";
import { ask, model, sheet, state, toast, tools } from "./page.js";
import { parts, slice } from "./pointer_link.js";
import { against, setBeside, setShow, shows } from "./show_and_wipe.js";
import { setHeat, setRake, setSquares, turnLight } from "./surface.js";

function toggle(id, apply) {
  const button = $(id);
  const flip = () => {
    const on = button.getAttribute("aria-pressed") !== "true";
    button.setAttribute("aria-pressed", on);
    apply(on);
  };
  button.onclick = flip;
  return flip;
}
const flips = {
  m: toggle("maps-on", (on) => {
    model.mapsOn = on;
    model.draw();
  }),
  c: toggle("cage-on", (on) => {
    model.cageOn = on;
    model.draw();
  }),
  r: toggle("rays-on", (on) => {
    model.raysOn = on;
    model.draw();
  }),
  n: toggle("normals-on", (on) => {
    model.normalsOn = on;
    model.draw();
  }),
  l: toggle("lit", (on) => {
    model.lit = on;
    model.draw();
  }),
  o: toggle("rake", setRake),
  e: toggle("heat", setHeat),
  g: toggle("squares", setSquares),
  u: toggle("uvs-on", (on) => {
    sheet.uvsOn = on;
    sheet.draw();
  }),
};
$("view-back").onclick = () => model.back();
window.addEventListener("model-turned", () => {
  $("view-back").hidden = !model.viewBefore;
});
for (const chip of document.querySelectorAll("[data-show]")) chip.onclick = () => setShow(chip.dataset.show);
// Do what a button does, also in the moment in which it was drawn anew and does not listen yet.
function act(button) {
  if (button && !button.disabled) ask("POST", button.getAttribute("hx-post"), button.getAttribute("hx-target"));
}
document.addEventListener("keydown", (e) => {
  if (e.key === "Escape" && e.target.matches("input")) e.target.blur(); // back to the keys of the page
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !e.target.matches("input[type=text], textarea")) {
    $(e.shiftKey ? "redo" : "undo").click();
    e.preventDefault();
    return;
  }
  if (
    e.ctrlKey ||
    e.metaKey ||
    e.altKey ||
    e.target.closest("dialog") ||
    e.target.matches("input:not([type=radio]):not([type=checkbox]), select, textarea")
  )
    return;
  const key = e.key.toLowerCase();
  if (flips[key]) flips[key]();
  else if ((key === "," || key === ".") && state.facts) {
    const all = state.facts.maps;
    showMap(all[(all.indexOf(state.key) + (key === "." ? 1 : all.length - 1)) % all.length]);
  } else if (key === "w") setShow(shows[(shows.indexOf(model.show) + 1) % shows.length]);
  else if (key === "q") tools.ask?.byKey();
  else if (key === "p") act($("proof"));
  else if (key === "b") act($("full-bake"));
  else if (key === "s") showLeaf(slice.shown ? "" : "section");
  else if (key === "j") stepFinding(1);
  else if (key === "a")
    act(document.querySelector("#trial [data-mend]") || document.querySelector(".finding > details[open] [data-mend]"));
  else if (key === "t") act(document.querySelector(".finding > details[open] [data-try]"));
  else if (key === "v") model.back();
  else if (key === "x" && model.other) against.flip();
  else if (key === "y" && !$("beside").hidden) setBeside();
  else if (key === "d" && model.other) against.differ();
  else if (key === "h" || key === "i") parts.key(key === "i");
  else if (key === "[" || key === "]") {
    if (tools.brush?.on) tools.brush.resize(key === "]" ? 1.15 : 1 / 1.15);
    else turnLight(key === "]" ? 15 : -15);
  } else if (key === "k") stepFinding(-1);
  else if (key === "f") {
    model.fit();
    sheet.fit();
  } else if (key === "?") $("keys").hidden = !$("keys").hidden;
  else if (key === "escape") {
    $("keys").hidden = true;
    toast("");
  } else if (key >= "1" && key <= "6") document.querySelectorAll("#steps .step")[Number(key) - 1].click();
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
viewKeys(
  model.canvas,
  (x, y) => model.turn(x * 0.12, y * 0.12),
  (z) => model.turn(0, 0, 1 / z),
);
viewKeys(
  sheet.canvas,
  (x, y) => sheet.move((-x * sheet.size[0] * 0.05) / sheet.zoom, (-y * sheet.size[1] * 0.05) / sheet.zoom),
  (z) => sheet.zoomBy(z),
);
