// Following a bake that is at work: its preview, its end, and what the page must then draw anew.
import { $, json, request, refusal, stepAddress } from "../common/requests.js";
import { showBake } from "./bake_shown.js";
import { reviewOfEnded, tend } from "./live.js";
import { loadCage, loadLow, loadMeshes } from "./meshes_shown.js";
import { ask, base, model, sheet, shownHere, state, toast } from "./page.js";

let baking = false; // whether the bake box showed a bake at work when last looked at
let peeked = "";
async function peek({ bake, peek: mark }) {
  if (!mark || mark === peeked) return;
  peeked = mark;
  const response = await request(`${base}/bakes/${bake}/peek.png`);
  if (response.status !== 200 || document.body.dataset.live !== "off") return; // the live proof is worth more
  const bitmap = await createImageBitmap(await response.blob());
  if (!baking) return;
  $("sheet-note").textContent = "As far as it is baked.";
  sheet.setMap(bitmap, [bitmap.width, bitmap.height]);
}
function followBake() {
  const box = document.querySelector("#bake-box .baking"),
    now = !!box;
  if (box) peek(box.dataset).catch(() => {}); // the next look is soon
  const missed = baking && !now; // a panel brought the box of an ended bake before the bake's own request told of it
  baking = now;
  if (missed) ask("GET", `${base}/progress`, { source: "#bake-box", target: "#bake-box" });
}
document.body.addEventListener("htmx:configRequest", (e) => Object.assign(e.detail.headers, shownHere()));
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
  model.clearMarks();
  sheet.setHatched(null); // of a flaw of before
  if (e.detail.facts || peeked) await showBake(e.detail.facts || state.facts);
  tend(state.facts);
  peeked = "";
  const step = e.detail.facts ? reviewOfEnded() : stepAddress();
  if (step)
    ask("GET", step, "#panel").then(() => {
      if ($("trial") || $("mended")) $("panel").scrollTop = 0;
    });
  $("table").dataset.ended = Number($("table").dataset.ended || 0) + 1;
});
// A tab that was left shows what was changed elsewhere meanwhile when it is come back to.
document.addEventListener("visibilitychange", look);
addEventListener("focus", look);
let looking = false;
async function look() {
  if (document.hidden || looking || !stepAddress()) return;
  looking = true;
  try {
    const now = await json(`${base}/state`),
      shown = $("shown-step")?.dataset.step;
    if (shown !== undefined && String(now.step) !== shown) {
      await ask("GET", stepAddress(), { target: "#panel" });
      await loadMeshes(false);
    }
  } catch {
    /* told where something is asked for */
  }
  looking = false;
}
const redraw = (work) => () => work().catch((error) => toast(error.message));
document.body.addEventListener(
  "meshes-changed",
  redraw(() => loadMeshes(false)),
);
document.body.addEventListener("low-changed", redraw(loadLow));
document.body.addEventListener("cage-changed", redraw(loadCage));
document.body.addEventListener("htmx:responseError", (e) => toast(refusal(e.detail.xhr)));
document.body.addEventListener("htmx:sendError", () => toast("The server cannot be reached. Is it still running?"));
