// The tour: five stops, one a step of the work, each beside what it tells of. Esc or its cross ends it.
import { $, step as stepShown } from "../common/requests.js";
import { ask, base } from "./page.js";

const SEEN = "tour";
const STOPS = [
  ["meshes", "#model", "This is the low with its map. W shows the sculpt, both, and a wipe between them."],
  ["cage", "#reach-rule", "Drag a handle: the cage and the map follow. Measure finds the reach that looks best."],
  ["maps", ".maps", "Tick the maps that you need. All of them come from the same rays."],
  ["review", ".flaws", "Each number is a flaw, worst first. J opens the next one; Keep mends it."],
  ["handoff", "#full-bake", "Full bake makes the maps at their full size. Here they are written for a receiver."],
];
let at = -1;

const card = document.createElement("aside");
card.className = "tour";
card.id = "tour";
card.hidden = true;
card.setAttribute("role", "dialog");
card.setAttribute("aria-label", "Tour");
card.innerHTML = `<button class="tour-end" aria-label="End the tour">×</button>
  <p class="tour-words" aria-live="polite"></p>
  <p class="tour-foot"><span class="soft"></span><span class="filler"></span>
    <button class="link" data-by="-1">Back</button><button class="button primary" data-by="1"></button></p>`;
$("table").append(card);
const [words, count, back, next] = [".tour-words", ".soft", "[data-by='-1']", "[data-by='1']"].map((which) =>
  card.querySelector(which),
);

export async function start() {
  $("keys").hidden = true;
  await go(0);
}
export function end() {
  localStorage.setItem(SEEN, "yes");
  at = -1;
  card.hidden = true;
  for (const ringed of document.querySelectorAll(".toured")) ringed.classList.remove("toured");
}

async function go(n) {
  if (n >= STOPS.length) {
    end();
    return;
  }
  at = n;
  const [step, , text] = STOPS[n];
  words.textContent = text;
  count.textContent = `${n + 1} of ${STOPS.length}`;
  back.hidden = n === 0;
  next.textContent = n === STOPS.length - 1 ? "Done" : "Next";
  if (
    stepShown()?.textContent.trim().toLowerCase() !== step &&
    document.querySelector(`#steps [href$="step=${step}"]`)
  ) {
    await ask("GET", `${base}/panel/${step}`, { target: "#panel" });
    if (at !== n) return; // ended, or gone on, meanwhile
  }
  card.hidden = false;
  place();
  next.focus({ preventScroll: true });
}

// Beside what it tells of, or in the middle of the views where that is not there yet.
function place() {
  if (at < 0) return;
  for (const ringed of document.querySelectorAll(".toured")) ringed.classList.remove("toured");
  const found = document.querySelector(STOPS[at][1]),
    target = found?.getClientRects().length ? found : $("model");
  target.classList.add("toured");
  if ($("panel").contains(target)) target.scrollIntoView({ block: "nearest" });
  const box = target.getBoundingClientRect(),
    { offsetWidth: w, offsetHeight: h } = card,
    most = [innerWidth - w - 12, innerHeight - h - 12];
  const spot =
    target.id === "model"
      ? [box.left + 16, box.top + 16]
      : box.left > innerWidth / 2
        ? [box.right - w, box.bottom + 10]
        : [box.right + 12, box.top];
  card.style.left = `${Math.max(12, Math.min(spot[0], most[0]))}px`;
  card.style.top = `${Math.max(12, Math.min(spot[1], most[1]))}px`;
}

card.addEventListener("click", (e) => {
  const by = Number(e.target.dataset?.by || 0);
  if (e.target.className === "tour-end") end();
  else if (by) go(Math.max(at + by, 0));
});
document.addEventListener(
  "keydown",
  (e) => {
    if (e.key === "Escape" && at >= 0) {
      end();
      e.stopPropagation();
    }
  },
  true,
);
addEventListener("resize", place);
document.body.addEventListener("htmx:afterSettle", place);
$("start-tour").onclick = start;
if (new URLSearchParams(location.search).has("tour") && !localStorage.getItem(SEEN)) start();
