// The sizes of the two views.
import { across, onDrag } from "../common/drag.js";
import { $ } from "../common/requests.js";

for (const head of document.querySelectorAll("[data-whole]")) {
  head.addEventListener("dblclick", (e) => {
    if (!e.target.closest("button"))
      $("bench").classList.toggle(head.dataset.whole === "model-view" ? "whole-model" : "whole-sheet");
  });
}
const KEPT = "split";
function setSplit(share) {
  localStorage.setItem(KEPT, share);
  $("split").setAttribute("aria-valuenow", Math.round(share * 100));
  $("model-view").style.flex = `${share} 1 0`;
  $("sheet-view").style.flex = `${1 - share} 1 0`;
}
onDrag($("split"), {
  begin: () => true,
  move: (e) => setSplit((splitShare = Math.min(Math.max(across($("bench"), e), 0.2), 0.8))),
  end: () => {},
});
let splitShare = Number(localStorage.getItem(KEPT)) || 0.5;
if (splitShare !== 0.5) setSplit(splitShare);
$("split").addEventListener("keydown", (e) => {
  if (e.key === "ArrowLeft" || e.key === "ArrowRight")
    setSplit((splitShare = Math.min(Math.max(splitShare + (e.key === "ArrowLeft" ? -0.03 : 0.03), 0.2), 0.8)));
});
