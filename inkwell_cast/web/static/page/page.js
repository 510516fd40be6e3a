// What all parts of the page of a piece share: its two views, the state that is shown, and requests to the server.
import { ModelView } from "../views/model.js";
import { SheetView } from "../views/sheet.js";
import { $, json, request, sending } from "../common/requests.js";

export const base = `/pieces/${$("table").dataset.piece}`;
export const plain = new URLSearchParams(location.search).has("plain"); // no antialiasing, for slow machines
export const model = new ModelView($("model"), { antialias: !plain });
export const sheet = new SheetView($("sheet"));
export const tools = {}; // those of the cage, once the page is put together
// worn draws the sheet of the live picture that is shown; null where that of a bake is
export const state = { facts: null, key: null, choice: null, sheet: "", bitmaps: new Map(), worn: null };

export function toast(text) {
  $("toast").textContent = text;
  $("toast").hidden = !text;
  clearTimeout(toast.timer);
  if (text)
    toast.timer = setTimeout(() => {
      $("toast").hidden = true;
    }, 9000);
}

// While something waits for the engine, say there what it is doing.
export function sayProgress(place) {
  let over = false;
  const timer = setInterval(async () => {
    const jobs = await json("/at-work").catch(() => []);
    const { stage, share } = jobs.find((job) => job.stage && `/pieces/${job.piece_id}` === base) || {};
    if (!place().isConnected) clearInterval(timer);
    else if (stage && !over) place().textContent = `${stage}, ${Math.round(share * 100)} %`;
  }, 600);
  return () => {
    over = true;
    clearInterval(timer);
  };
}

// Requests of the page's own, one after the other: side by side, htmx keeps only the last of those that wait.
let asked = Promise.resolve();
export function ask(verb, address, options) {
  return (asked = asked.then(() => htmx.ajax(verb, address, options)).catch(() => {}));
}

// Sends a change of the piece that a tool made, as values in JSON or as other `options` say. What the answer tells of
// (such as changed settings) is heard as if htmx had asked. Gives whether anything was changed; raises an Error in the
// server's words.
export async function change(address, values, options = sending(values)) {
  Object.assign(options.headers, shownHere());
  const response = await request(`${base}/${address}`, options),
    told = response.headers.get("HX-Trigger");
  for (const [name, detail] of Object.entries(told ? JSON.parse(told) : {})) htmx.trigger(document.body, name, detail);
  return response.status !== 204;
}

// Every change says which state of the settings this page shows, so that one made elsewhere meanwhile is not lost; and
// which turn it is, so that one that was overtaken on its way takes back nothing.
const tab = crypto.randomUUID?.() ?? String(Math.random());
addEventListener("pagehide", () => navigator.sendBeacon(`${base}/left?tab=${encodeURIComponent(tab)}`));
let turns = 0;
export function shownHere() {
  turns += 1;
  return { "X-Shown-Step": $("shown-step")?.dataset.step ?? "", "X-Tab": tab, "X-Turn": turns };
}
