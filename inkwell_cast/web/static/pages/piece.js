// The page of a piece: puts its parts together.
import { $, json, request } from "../common/requests.js";
import "../page/split.js";
import "../page/keys.js";
import "../page/follow_bake.js";
import "../page/panel_memory.js";
import "../page/panel_scroll.js";
import "../page/flaw_numbers.js";
import "../page/at_work.js";
import "../page/tour.js";
import "../page/save_picture.js";
import "../page/number_fields.js";
import "../page/rename.js";
import "../page/filters.js";
import { Coverage } from "../panels/coverage.js";
import "../panels/folders.js";
import { Dropped } from "../panels/dropped.js";
import { HandoffPanel } from "../panels/handoff.js";
import { MeshesPanel } from "../panels/meshes.js";
import { sendPictures } from "../panels/send_pictures.js";
import { AskHere } from "../tools/ask.js";
import { Brush } from "../tools/brush.js";
import { LitMaterials } from "../tools/lit_materials.js";
import { MendByHand } from "../tools/mend_by_hand.js";
import { showMendRims } from "../tools/mend_rims.js";
import { Pockets } from "../tools/pockets.js";
import { Tape } from "../tools/tape.js";
import { showLeaf } from "../page/drawer.js";
import { hideFinding } from "../page/findings.js";
import { tryLive } from "../page/live.js";
import { loadCage, loadMeshes, tellForms } from "../page/meshes_shown.js";
import { ask, base, change, model, sayProgress, sheet, state, toast, tools } from "../page/page.js";
import { clicked, parts, slice, texelOf } from "../page/pointer_link.js";
import { setShow } from "../page/show_and_wipe.js";

sendPictures(toast);
async function filesChanged(said) {
  hideFinding();
  await loadMeshes(false);
  pockets.shown();
  await ask("GET", `${base}/panel/meshes`, "#panel");
  if (said.length) toast(said.join(" "));
}
const meshes = new MeshesPanel(base, { ask, json, partly: () => loadMeshes(false), changed: filesChanged });
new Dropped(base, { toast, changed: filesChanged });
// The view is the artist's: nothing turns it but a press on a place, and V goes back to how it was before.
const EASED = 260; // milliseconds until the camera stands
// Middle, radius and, where it is told, which way the surface looks.
function placeOf(numbers) {
  return [numbers.slice(0, 3), numbers[3], numbers.length > 4 ? numbers.slice(4, 7) : undefined];
}
function goTo(place, show) {
  setShow(show);
  model.turnTo(new Float32Array(0), placeOf(place));
  setTimeout(() => {
    const at = slice.shown && lowNear(place.slice(0, 3));
    if (at) {
      slice.pin(null);
      slice.pin(at);
    }
  }, EASED);
}
// The low where a place of the sculpt is seen, or beside it where the sculpt stands over its border.
function lowNear(place) {
  const [x, y] = model.screenOf(place),
    r = model.canvas.getBoundingClientRect();
  for (let ring = 0; ring <= 10; ring++)
    for (let n = 0; n < Math.max(8 * ring, 1); n++) {
      const turn = (2 * Math.PI * n) / Math.max(8 * ring, 1),
        at = model.uvAt({
          clientX: r.left + x + 9 * ring * Math.cos(turn),
          clientY: r.top + y + 9 * ring * Math.sin(turn),
        });
      if (at) return at;
    }
  return null;
}
const cover = new Coverage(base, model, {
  toast,
  sayProgress,
  tryLive,
  mark: (header, arrays) => {
    setShow("low");
    model.showMarks(arrays.corners, header.place);
    sheet.setHatched(arrays.uvs);
  },
  turnTo: goTo,
});

async function sendToCage(address, values) {
  try {
    await change(address, values);
  } catch (error) {
    toast(error.message);
    return;
  }
  await ask("GET", `${base}/panel/cage${location.search}`, "#panel");
  await loadCage();
}
const postPanel = (address, values) => ask("POST", `${base}/${address}`, { target: "#panel", values });
const pockets = new Pockets(base, model, {
  busy: () => brush.on,
  clicked,
  begin: () => setShow("low"),
  scale: () => cover.scale,
  add: ([x, y, z]) => sendToCage("pockets", { x, y, z }),
  change: (key, values) => postPanel(`pockets/${key}`, values),
  tried: (pocket, values) => tryLive({ pocket, ...values }),
});
const brush = (tools.brush = new Brush(
  model,
  (stroke) => sendToCage("nudges", stroke),
  () => {
    pockets.placing = false;
    setShow("low");
  },
  (stroke) => tryLive(stroke ? { stroke } : {}),
));
new LitMaterials(model, setShow);
tools.ask = new AskHere(base, model, {
  state,
  texelOf,
  clicked,
  toast,
  act: (what, at) => {
    const part = model.partOf(at.triangle);
    if (what === "only") parts.only(part);
    else if (what === "hide") parts.hide(part);
    else if (what === "section") {
      showLeaf("section");
      slice.pin(at);
    } else if (what === "measure") tape.begin(at);
    else if (what === "pocket") {
      const [x, y, z] = at.place;
      sendToCage("pockets", { x, y, z });
    }
  },
});
const tape = new Tape(base, model);
showMendRims(base, model);
const hand = new MendByHand(base, model, {
  clicked,
  begin: () => setShow("low"),
  send: (values) => postPanel("mends/place", values),
});
document.addEventListener("keydown", (e) => {
  if (e.key !== "Escape") return;
  for (const tool of [pockets, hand, parts.chosen]) tool.putDown(); // what was taken up and not begun
});
document.body.addEventListener("htmx:afterSettle", (e) => {
  if (e.detail.target?.id === "panel") {
    pockets.tend();
    brush.tend();
    hand.tend();
    tellForms();
  }
});
pockets.tend();
brush.tend();
hand.tend();

const leaving = new HandoffPanel(base, { ask, json, toast, sayProgress });
document.body.addEventListener("htmx:afterSettle", () => {
  meshes.tend();
  leaving.tend();
});
meshes.tend();
setShow("low");
loadMeshes().catch((error) => {
  $("model-note").textContent = error.message;
});

// A piece that was made by itself of what was dropped goes back where it came from.
const UNDO_FOR = 20_000; // milliseconds
if (new URLSearchParams(location.search).has("undo")) {
  $("made").hidden = false;
  setTimeout(() => {
    $("made").hidden = true;
  }, UNDO_FOR);
  $("unmake").onclick = async () => {
    window.stop(); // what is still asked of it would find it gone
    await request(`${base}/delete`, { method: "POST" });
    location.href = "/new";
  };
}
