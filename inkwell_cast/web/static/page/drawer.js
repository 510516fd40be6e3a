// The leaves of the drawer: section, flaws, bakes.
import { $ } from "./page.js";
import { slice } from "./pointer_link.js";

export function showLeaf(name) {
  for (const leaf of document.querySelectorAll(".leaf")) leaf.setAttribute("aria-selected", leaf.dataset.leaf === name);
  $("section-leaf").hidden = $("section-tools").hidden = name !== "section";
  $("bakes-leaf").hidden = name !== "bakes";
  if (name === "section") slice.open();
}
for (const leaf of document.querySelectorAll(".leaf")) leaf.addEventListener("click", () => showLeaf(leaf.dataset.leaf));
