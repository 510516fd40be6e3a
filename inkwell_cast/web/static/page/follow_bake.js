// Following a bake that is at work: its preview, its end, and what the page must then draw anew.
import { $, json, request, refusal, stepAddress } from "../common/requests.js";
import { showBake } from "./bake_shown.js";
import { reviewOfEnded, tend } from "./live.js";
import { loadCage, loadLow, loadMeshes } from "./meshes_shown.js";
import { ask, base, model, sheet, shownHere, state, toast } from "./page.js";

let baking = false; // whether the bake box showed a bake at work when last looked at
let peeked = "";
async function peek({ bake, peek: mark, mending }) {
  if (!mark || mark === peeked) return;
  peeked = mark;
  const response = await request(`${base}/bakes/${bake}/peek.png`),
    mended = mending !== undefined; // what was kept so far, which the live proof does not have
  if (response.status !== 200 || (!mended && document.body.dataset.live !== "off")) return;
  const blob = await response.blob(),
    bitmap = await createImageBitmap(blob);
  if (!baking) return;
  $("sheet-note").textContent = mended ? "With the mends that were kept so far." : "As far as it is baked.";
  sheet.setMap(bitmap, [bitmap.width, bitmap.height]);
  if (mended && state.facts?.sheets.length === 1) {
    const exact = { premultiplyAlpha: "none", colorSpaceConversion: "none", imageOrientation: "flipY" };
    model.setMap({ [state.facts.sheets[0].name]: await createImageBitmap(blob, exact) }, state.facts, "normal");
  }
}
// How far mending all is, told where it was pressed too.
function tellMending(box) {
  const here = $("mending-here"),
    cancel = document.querySelector("#bake-box .button");
  if (!here) return;
  here.hidden = box?.dataset.mending === undefined;
  if (here.hidden) return;
  here.querySelector(".words").textContent = box.querySelector(".baking-words").textContent.trim();
  here.querySelector("progress").value = box.querySelector(".bar").getAttribute("aria-valuenow");
  here.querySelector("button").onclick = () => cancel.click();
}
function followBake() {
  const box = document.querySelector("#bake-box .baking"),
    now = !!box;
  tellMending(box);
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
// The maps of a bake are there; it goes on being judged, and its figures come with its end.
document.body.addEventListener("maps-there", async (e) => {
  const { facts } = e.detail;
  if (!facts || facts.id === state.facts?.id) return;
  peeked = "";
  await showBake(facts);
  ask("GET", stepAddress(), "#panel");
  $("table").dataset.maps = facts.id;
});
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
// Red words in the rail say on a press what went wrong and what to do.
document.addEventListener("click", (e) => {
  const told = e.target.closest?.("[data-tell]");
  if (told) toast(told.dataset.tell);
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
