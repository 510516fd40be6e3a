// The number of each flaw of the shown bake at its place in both views; a click opens it in the panel.
import { $ } from "../common/requests.js";
import { model, sheet, state } from "./page.js";

const REST = 150,
  MOST_TRIANGLES = 60_000, // milliseconds until what hides a number is looked for, in lows not larger
  PATIENCE = 60; // milliseconds for that
let flaws = [],
  waiting = 0;

function layerOf(view) {
  const layer = document.createElement("div");
  layer.className = "flaw-numbers";
  view.append(layer);
  return layer;
}
const layers = { model: layerOf($("model")), sheet: layerOf($("sheet")) };

function numberOf(summary, n) {
  const button = document.createElement("button");
  button.className = "flaw-number";
  button.textContent = n + 1;
  button.tabIndex = -1;
  button.title = summary.querySelector(".words b").textContent;
  button.setAttribute("aria-label", `Flaw ${n + 1}: ${button.title}`);
  button.addEventListener("click", () => {
    summary.parentElement.open = true;
    summary.scrollIntoView({ block: "nearest" });
    summary.focus();
  });
  return button;
}

const inThrees = (list) => Array.from({ length: list.length / 3 }, (_, n) => list.slice(3 * n, 3 * n + 3));

export function gather() {
  for (const layer of Object.values(layers)) layer.replaceChildren();
  const numbers = (text) => text.split(" ").map(Number);
  flaws = [...document.querySelectorAll(".flaws summary")]
    .map(
      (summary, n) =>
        summary.dataset.spots && {
          summary,
          part: summary.querySelector(".words .soft").title,
          places: inThrees(numbers(summary.dataset.spots)),
          at: 0, // the place that its number stands at
          texel: numbers(summary.dataset.texel),
          sheet: summary.dataset.sheet,
          onModel: numberOf(summary, n),
          onSheet: numberOf(summary, n),
        },
    )
    .filter(Boolean);
  layers.model.append(...flaws.map((flaw) => flaw.onModel));
  layers.sheet.append(...flaws.map((flaw) => flaw.onSheet));
  placeOnModel();
  placeOnSheet();
}

function put(button, [x, y], view, shown) {
  button.hidden = !shown || x < 0 || y < 0 || x > view.clientWidth || y > view.clientHeight;
  button.style.transform = `translate(${x.toFixed(1)}px, ${y.toFixed(1)}px)`;
}

function placeOnModel() {
  for (const flaw of flaws) {
    stand(flaw);
    flaw.onModel.classList.toggle("open", flaw.summary.parentElement.open);
  }
  clearTimeout(waiting);
  waiting = setTimeout(turnToCamera, REST);
}

// The pair that a part of the low is drawn with; those are what is hidden.
function pairOf(part) {
  const { keys, pairs } = model.low.header;
  return pairs[keys.indexOf(part)];
}

function stand({ onModel, places, at, part }) {
  const there = model.low && model.show !== "sculpt" && !model.spread && !model.hiddenParts.has(pairOf(part));
  put(onModel, model.screenOf(places[at]), $("model"), there);
}

// A number goes to the worst place of its flaw that can be seen from here.
function turnToCamera() {
  if (!model.low || model.low.header.triangles > MOST_TRIANGLES) return;
  const began = performance.now(),
    view = $("model");
  const inView = ([x, y]) => x >= 0 && y >= 0 && x <= view.clientWidth && y <= view.clientHeight;
  for (const flaw of flaws) {
    const seen = flaw.places.findIndex(
      (place, n) =>
        inView(model.screenOf(place)) && (n === 0 || performance.now() - began < PATIENCE) && !model.hides(place),
    );
    flaw.at = Math.max(seen, 0);
    stand(flaw);
    flaw.onModel.classList.toggle("behind", seen < 0);
  }
}

function placeOnSheet() {
  const [x0, y0] = sheet.origin,
    s = sheet.scale;
  for (const { onSheet, texel, sheet: name, summary } of flaws) {
    put(
      onSheet,
      [x0 + (texel[0] + 0.5) * s, y0 + (texel[1] + 0.5) * s],
      $("sheet"),
      state.facts && summary.dataset.texel && name === state.sheet,
    );
    onSheet.classList.toggle("open", summary.parentElement.open);
  }
}

window.addEventListener("model-drawn", placeOnModel);
window.addEventListener("sheet-drawn", placeOnSheet);
document.body.addEventListener("htmx:afterSettle", (e) => {
  if (e.detail.target?.id === "panel") gather();
});
gather();
