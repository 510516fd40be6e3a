// The live proof: after every change the map in view is renewed, then how it is seen, then the flaws. A newer change
// ends what an older one began; what is still of an older state says so.
import { $, request, sending, stepAddress } from "../common/requests.js";
import { parseMesh } from "../views/mesh_message.js";
import { offerSheets, showBake } from "./bake_shown.js";
import { ask, base, change, model, sheet, state, toast } from "./page.js";

const SLOW = 3000; // milliseconds of a picture, twice in a row, from which on a piece is too large for this machine
const RENEWED = "renewed=yes",
  TOLD = ["review", "maps", "basis", "handoff"]; // steps whose panel tells of a bake
const switchOf = `live:${base}`;
const button = $("live"),
  words = $("live-words");
let on = localStorage.getItem(switchOf) !== "off";
let turn = 0; // of the change that is being shown
let slow = 0;
let figures = { seen: null, flaws: null },
  stale = false; // of the newest bake, and whether something changed since
let trying = null,
  asking = false;

function say(stage) {
  document.body.dataset.live = on ? stage : "off";
  button.setAttribute("aria-pressed", on);
  const old = { map: [true, true], seen: [true, true], flaws: [false, true] }[stage] || [stale, stale];
  const { seen, flaws } = figures,
    was = (word, is) => (is ? `was ${word}` : word);
  const told = [
    seen === null ? "" : was(`${seen.toFixed(2)}°`, old[0]),
    flaws === null ? "" : was(`${flaws} ${flaws === 1 ? "flaw" : "flaws"}`, old[1]),
  ].filter(Boolean);
  words.textContent =
    stage === "refused" ? "cannot bake" : told.join(" · ") || (stage === "current" || !on ? "" : "first look");
  words.classList.toggle("old", old[0] || old[1]);
}

async function post(address, body) {
  const response = await request(`${base}/live/${address}`, body ? sending(body) : { method: "POST" });
  return response.status === 204 ? null : response; // null: something newer was asked for
}
async function message(address, body, scope = "piece") {
  const response = await post(
    `${address}?key=${encodeURIComponent(state.key || "")}&scope=${encodeURIComponent(scope)}`,
    body,
  );
  return response && parseMesh(await response.arrayBuffer());
}

// Put a picture on the model and the sheet, unless something else is looked at.
async function wear({ header, arrays }, mine) {
  const flipped = {},
    upright = {},
    exact = { premultiplyAlpha: "none", colorSpaceConversion: "none" };
  for (const [n, { name, width, height }] of header.sheets.entries()) {
    const pixels = arrays[`sheet${n}`],
      data = new ImageData(new Uint8ClampedArray(pixels.buffer, pixels.byteOffset, pixels.length), width, height);
    upright[name] = await createImageBitmap(data, exact);
    flipped[name] = await createImageBitmap(data, { ...exact, imageOrientation: "flipY" });
  }
  if (mine !== turn || (state.key && header.key !== state.key)) return;
  state.worn = () => {
    const { width, height } = header.sheets.find((s) => s.name === state.sheet),
      twice = sheet.size[0] === 2 * width && sheet.size[1] === 2 * height;
    // one of what is dragged may be coarse
    sheet.setMap(upright[state.sheet], header.draft && twice ? sheet.size : [width, height]);
    $("sheet-fact").textContent = `${width} × ${height}, live${header.draft ? ", first look" : ""}`;
  };
  offerSheets(header.sheets);
  state.worn();
  model.setMap(flipped, { basis: header.basis, clipped: header.clipped ? [header.key] : [] }, header.key);
  $("sheet-note").textContent = "";
  $("table").dataset.lived = Number($("table").dataset.lived || 0) + 1;
}

// Renew the proof; each stage only if nothing newer began meanwhile.
async function renew() {
  if (!on) {
    say("off");
    return;
  }
  const mine = ++turn,
    began = performance.now();
  say("map");
  try {
    let found = await message("picture");
    if (mine !== turn) return;
    if (found) {
      await wear(found, mine);
      tooSlow(performance.now() - began);
    }
    if (!found || !on || (await measured()) || mine !== turn) return;
    say("seen");
    found = await message("judged");
    if (!found || mine !== turn) return;
    await wear(found, mine);
    figures.seen = found.header.seen?.bake.mean ?? null;
    say("flaws");
    const done = await post("proof");
    if (!done || mine !== turn) return;
    await finished(await done.json());
  } catch (error) {
    if (mine === turn) refused(error);
  }
}

// A piece that was just made has its reach measured once its first picture stands. Whether that changed it.
let fresh = new URLSearchParams(location.search).has("new");
async function measured() {
  if (!fresh) return false;
  fresh = false;
  history.replaceState(null, "", location.pathname + location.hash);
  const done = await change("measure/new", {});
  if (done) await ask("GET", stepAddress(), { target: "#panel" });
  return done;
}

function refused(error) {
  say("refused");
  button.title = error.message;
  toast(error.message);
}

async function finished(facts) {
  note(facts);
  say("current");
  button.title = "The map follows every change. P keeps a proof by hand.";
  await showBake(facts);
  htmx.trigger(document.body, "bakes-changed");
  if (!pressed && needsPanel())
    await ask("GET", `${stepAddress()}${location.search ? `${location.search}&` : "?"}${RENEWED}`, {
      target: "#panel",
    });
  $("table").dataset.renewed = Number($("table").dataset.renewed || 0) + 1;
}

// Whether the panel tells of the newest bake, or the step line does not know yet that there is one.
function needsPanel() {
  return TOLD.some((step) => stepAddress()?.endsWith(step)) || Boolean(document.querySelector("#steps .off"));
}

// A panel that only shows newer figures gives way to one that was asked for meanwhile, as by a click on another step.
const wanted = new Set();
document.body.addEventListener("htmx:beforeRequest", (e) => {
  if (e.detail.target?.id === "panel" && !e.detail.pathInfo.requestPath.endsWith(RENEWED)) wanted.add(e.detail.xhr);
});
document.body.addEventListener("htmx:afterRequest", (e) => wanted.delete(e.detail.xhr));
// So does the review that an ended bake brings, to a step that was chosen since it was asked for.
let chosen = 0;
document.body.addEventListener("htmx:beforeRequest", (e) => {
  if (e.target.closest?.("#steps")) chosen++;
});
export const reviewOfEnded = () => `${base}/panel/review?chosen=${chosen}`;
document.body.addEventListener(
  "htmx:beforeSwap",
  (e) => {
    const path = e.detail.pathInfo?.requestPath ?? "",
      since = path.match(/\?chosen=(\d+)$/);
    const left = path.endsWith(RENEWED) && (wanted.size || path.split("?")[0] !== stepAddress());
    if (left || (since && Number(since[1]) !== chosen)) {
      e.detail.shouldSwap = false;
      e.stopImmediatePropagation();
    }
  },
  true,
);

function note(facts) {
  stale = Boolean(facts?.stale);
  figures = { seen: facts?.seen ?? null, flaws: facts?.flaws ?? null };
}

function tooSlow(milliseconds) {
  slow = milliseconds > SLOW ? slow + 1 : 0;
  if (slow < 2 || localStorage.getItem(switchOf) === "on") return;
  on = false;
  stale = true;
  turn++;
  say("off");
  toast(
    `Live is off now: a proof of this piece takes ${(milliseconds / 1000).toFixed(0)} s here. ` +
      "Press P for one, or switch it on again.",
  );
}

// While a handle or a brush is dragged: the map with what is being tried, as often as it can be had.
export async function tryLive(tried, scope) {
  if (!on) return;
  trying = tried;
  if (asking) return;
  asking = true;
  const mine = ++turn;
  say("map");
  while (trying && mine === turn) {
    const now = trying;
    trying = null;
    try {
      const found = await message("picture", now, scope);
      if (found) await wear(found, mine);
    } catch {
      /* it cannot be there; the next may */
    }
  }
  asking = false;
}

// A proof that is compared is kept in the history.
export async function keep(id) {
  await post(`${id}/keep`);
  htmx.trigger(document.body, "bakes-changed");
}

// What the page shows is that of `facts`; renew it if settings or meshes have changed since, or nothing was ever baked.
export function tend(facts, ready = true) {
  note(facts);
  if (!ready) {
    turn++;
    say("current");
    return;
  }
  if (facts && !facts.stale) {
    turn++;
    say("current");
  } else renew();
}

let pressed = false;
addEventListener(
  "pointerdown",
  () => {
    pressed = true;
  },
  true,
);
addEventListener(
  "pointerup",
  () => {
    pressed = false;
  },
  true,
);
button.addEventListener("click", () => {
  on = !on;
  localStorage.setItem(switchOf, on ? "on" : "off");
  if (on) tend(state.facts);
  else {
    turn++;
    say("off");
  }
});
document.body.addEventListener("settings-changed", (e) => tend(e.detail.facts));
say("current");
