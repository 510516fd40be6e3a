// Where a mend of the list would change something: its patches on the model while its button is pointed at or focused.
import { Patches } from "./patches.js";

export function showMendRims(base, model) {
  const patches = new Patches(base, model, true);
  let shown = null;
  const show = (e) => {
    const mend = e.target.closest?.("[data-patches]") ?? null;
    if (mend === shown) return;
    shown = mend;
    patches.show(mend ? JSON.parse(mend.dataset.patches) : []).catch(() => {}); // it is drawn, or the list says why not
  };
  for (const type of ["pointerover", "focusin", "htmx:afterSettle"]) document.body.addEventListener(type, show);
}
