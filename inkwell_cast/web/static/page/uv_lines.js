// The UV lines of the sheet in view; before a bake, of all the lows.
import { model, sheet, state } from "./page.js";

export function showLines() {
  if (!model.low?.header.triangles) {
    sheet.setLines(null);
    return;
  }
  const { header, arrays } = model.low,
    number = header.sheets.findIndex((s) => s.name === state.sheet);
  const on = arrays.wireSheet ?? arrays.sheet;
  const one = state.facts && number >= 0;
  sheet.setLines(arrays.wire ?? arrays.uv, one ? (t) => on[t] === number : undefined);
  sheet.setSeams(arrays.seams ?? null, one ? (s) => arrays.seamSheet[s] === number : undefined);
}
