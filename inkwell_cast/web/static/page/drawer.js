// The drawer: its leaves are section and bakes. Closed it is a line that says what it holds; what is asked for opens
// it.
import { $ } from "../common/requests.js";
import { slice } from "./pointer_link.js";

const KEPT = "drawer";

export function showLeaf(name, remember = true) {
  $("drawer").classList.toggle("closed", !name);
  for (const leaf of document.querySelectorAll(".leaf")) {
    leaf.setAttribute("aria-selected", leaf.dataset.leaf === name);
    leaf.setAttribute("aria-expanded", leaf.dataset.leaf === name);
  }
  $("section-leaf").hidden = $("section-tools").hidden = name !== "section";
  $("bakes-leaf").hidden = name !== "bakes";
  if (remember) localStorage.setItem(KEPT, name);
  if (name === "section") slice.open();
}
export const leafShown = () => document.querySelector(".leaf[aria-selected=true]")?.dataset.leaf ?? "";
for (const leaf of document.querySelectorAll(".leaf"))
  leaf.addEventListener("click", () => showLeaf(leafShown() === leaf.dataset.leaf ? "" : leaf.dataset.leaf));
showLeaf(localStorage.getItem(KEPT) ?? "", false);

function count() {
  $("bakes-count").textContent = document.querySelectorAll("#bakes-leaf .bakes > li").length || "";
}
document.body.addEventListener("htmx:afterSettle", (e) => {
  if (e.detail.target?.id === "bakes-leaf") count();
});
count();
