// One pointer in both views: the texel under it on the model, its ray in the section, and what it says.
import { adds } from "../tools/chosen_parts.js";
import { Parts } from "../tools/parts.js";
import { SectionTool } from "../tools/section.js";
import { $, json, step } from "../common/requests.js";
import { ask, base, model, sheet, state, toast, tools } from "./page.js";

let pointed = null; // the low's triangle under the pointer

// The texel of a triangle of the low at its UVs, as [column, row], and its sheet; sheets without a bake are unit
// squares.
export function texelOf(triangle, [u, v]) {
  const { header, arrays } = model.low,
    name = header.sheets[arrays.sheet[triangle]]?.name;
  if (name === undefined) return null;
  const found = state.facts?.sheets.find((s) => s.name === name),
    frac = (c) => c - Math.floor(c);
  if (!found) return { sheet: name, at: [frac(u) - 0.5, 0.5 - frac(v)] };
  const at = (share, size) => Math.min(Math.floor(share * size), size - 1);
  return { sheet: name, at: [at(frac(u), found.width), at(1 - frac(v), found.height)] };
}

let asking = null,
  wanted = null;
export async function pointAt(texel, name, follow = true) {
  sheet.setMark(name === state.sheet ? texel : null);
  wanted = [...texel, name, follow];
  if (asking || !state.facts) return;
  asking = true;
  while (wanted) {
    const [x, y, at, cut] = wanted;
    wanted = null;
    try {
      readOut(await json(`${base}/bakes/${state.facts.id}/texel?x=${x}&y=${y}&sheet=${encodeURIComponent(at)}`), cut);
    } catch (error) {
      toast(error.message);
    }
  }
  asking = false;
}

function readOut(found, cut) {
  const p = found.probe,
    short = (v) => (Math.abs(v) < 1e-4 * (p.outward + p.inward) ? "0" : Number(v.toPrecision(3)).toString());
  model.setPin(p || null);
  if (p && cut) slice.at({ triangle: p.triangle, place: p.place });
  const words = Object.entries(found.maps)
    .sort(([a]) => (a === state.key ? -1 : 0))
    .map(([key, v]) => `${state.facts.labels[key].toLowerCase()} ${v}`);
  const uv = p ? `u ${p.uv[0].toFixed(4)} v ${p.uv[1].toFixed(4)} · ` : "";
  $("sheet-readout").textContent = `texel ${found.texel.join(", ")} · ${uv}${words.join(" · ")}`;
  const line = $("model-readout");
  if (!p) {
    line.textContent = "Off the low, or the engine is busy.";
    return;
  }
  const struck =
    p.hit_object === null
      ? "<b>struck nothing</b>"
      : `struck <b></b> at ${short(p.height)} · angle ${p.angle.toFixed(1)}°`;
  line.innerHTML = `triangle ${p.triangle} · reach ${short(p.outward)} / ${short(p.inward)} · ${struck}`;
  if (p.hit_object !== null) line.querySelector("b").textContent = p.hit_object;
}

sheet.canvas.addEventListener("pointermove", (e) => {
  const t = !sheet.drag && state.facts && sheet.texelAt(e);
  if (t) pointAt(t, state.sheet);
});
let modelMove = 0,
  newest = null; // where the pointer came to rest, though it moved several times within a frame
model.canvas.addEventListener("pointermove", (e) => {
  if (e.buttons || model.show === "sculpt" || tools.brush?.on) return;
  newest = e;
  if (modelMove) return;
  modelMove = requestAnimationFrame(() => {
    modelMove = 0;
    const at = model.uvAt(newest);
    pointed = at ? at.triangle : null;
    if (at) slice.at(at);
    const texel = at?.uv && state.facts && state.facts.stale !== "meshes" && texelOf(at.triangle, at.uv);
    if (texel) pointAt(texel.at, texel.sheet);
  });
});

export const slice = new SectionTool(base, model, toast, (triangle, uv, place) => {
  model.setPin(place);
  const texel = uv && texelOf(triangle, uv);
  if (texel && state.facts && state.facts.stale !== "meshes") pointAt(texel.at, texel.sheet, false);
  else sheet.setMark(texel && texel.sheet === state.sheet ? texel.at : null);
});

let pressedAt = null;
model.canvas.addEventListener("pointerdown", (e) => {
  pressedAt = [e.clientX, e.clientY];
});
export const clicked = (e) => pressedAt && Math.hypot(e.clientX - pressedAt[0], e.clientY - pressedAt[1]) <= 3;
model.canvas.addEventListener("pointerup", (e) => {
  if (clicked(e) && !adds(e)) slice.pin(model.uvAt(e));
});
export const parts = new Parts(model, () => pointed !== null && model.partOf(pointed), {
  clicked,
  settings(names) {
    const panel = step()?.textContent.trim().toLowerCase() === "meshes" ? "meshes" : "cage",
      scope = names.map((name) => `pair:${name.toLowerCase()}`).join("\n");
    ask("GET", `${base}/panel/${panel}?scope=${encodeURIComponent(scope)}`, "#panel");
  },
});
