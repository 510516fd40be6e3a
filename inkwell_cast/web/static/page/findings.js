// Findings of the checks and flaws of a bake: hatched in both views, which go there.
import { fetchMesh } from "../views/mesh_message.js";
import { model, sheet, toast } from "./page.js";
import { parts } from "./pointer_link.js";
import { setShow } from "./show_and_wipe.js";

let shown = ""; // the address of the marks that are wanted

export async function showFinding(summary) {
  const { marks } = summary.dataset;
  shown = marks;
  moveSculpt(null);
  const { header, arrays } = await fetchMesh(marks);
  if (shown !== marks) return; // another was opened, or this one closed, meanwhile
  if (header.place) {
    setShow(header.low ? "low" : "sculpt");
    if (model.spread || model.hiddenParts.size) parts.all();
  }
  model.showMarks(arrays.corners, header.place);
  sheet.setHatched(arrays.uvs);
  if (arrays.uvs.length) sheet.turnTo(arrays.uvs);
}
export function hideFinding() {
  shown = "";
  moveSculpt(null);
  model.clearMarks();
  model.draw();
  sheet.setHatched(null);
  sheet.fit();
}

// Where a fix would lay the sculpt, shown before it is chosen; null for where it lies.
export function moveSculpt(button) {
  const on = button?.getAttribute("aria-pressed") === "false";
  for (const each of document.querySelectorAll("[data-move]")) each.setAttribute("aria-pressed", on && each === button);
  keepMove();
  if (!button) return;
  setShow("both");
  const [low, high] = model.low.header.bounds,
    middle = low.map((c, k) => (c + high[k]) / 2);
  model.turnTo(new Float32Array(0), [middle, Math.hypot(...low.map((c, k) => high[k] - c)) / 2], 0);
}
// Meshes that are loaded anew, and a panel that is drawn anew, leave the sculpt where the pressed button says.
export function keepMove() {
  const button = document.querySelector("[data-move][aria-pressed=true]");
  model.setMoved(button ? button.dataset.move.split(" ").map(Number) : null);
}
document.body.addEventListener("htmx:afterSettle", keepMove);
document.body.addEventListener("click", (e) => {
  const button = e.target.closest?.("[data-move]");
  if (button) moveSculpt(button);
});

document.body.addEventListener(
  "toggle",
  (e) => {
    const summary = e.target.matches?.(".finding > details") && e.target.querySelector("summary");
    if (!summary) return;
    if (e.target.open) showFinding(summary).catch((error) => toast(error.message));
    else if (!document.querySelector(".finding > details[open]")) hideFinding();
  },
  true,
);

// The next or previous finding, or flaw of the kind that is open.
export function stepFinding(by, kind) {
  const all = [...document.querySelectorAll(".findings:not(.coarse) > .finding > details")].filter(
    (each) => !kind || each.querySelector("summary").dataset.kind === kind,
  );
  if (!all.length) return;
  const here = all.findIndex((d) => d.open),
    next = all[(here + by + all.length) % all.length];
  next.open = true;
  next.querySelector("summary").focus();
}
document.body.addEventListener("click", (e) => {
  const open = e.target.closest?.("[data-next-of-kind]")?.closest("details");
  if (open) stepFinding(1, open.querySelector("summary").dataset.kind);
});
