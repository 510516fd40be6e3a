// Where the panel is scrolled to when it, or a part of it, is drawn anew.
import { step as stepShown } from "../common/requests.js";

const panel = document.getElementById("panel");
const CONTROLS = ["input", "select", "textarea", "button", "summary", "a", "label"].map((c) => `#panel ${c}`).join();

// What the hand was last on stays where it is on the screen, whatever comes or goes above it; if that is out of sight,
// the first that is in sight.
let touched = null;
for (const kind of ["pointerdown", "focusin"])
  addEventListener(
    kind,
    (e) => {
      const control = e.target.closest?.(CONTROLS);
      if (control) touched = control.control ?? control;
    },
    true,
  );

function inSight(element) {
  const { top, bottom, height } = element.getBoundingClientRect(),
    view = panel.getBoundingClientRect();
  return height > 0 && top >= view.top && bottom <= view.bottom;
}

function known(element) {
  if (element.id) return `[id="${CSS.escape(element.id)}"]`;
  const value = ["radio", "checkbox"].includes(element.type) ? `[value="${CSS.escape(element.value)}"]` : "";
  return element.name ? `[name="${CSS.escape(element.name)}"]${value}` : null;
}

let kept = null;
document.body.addEventListener("htmx:beforeSwap", (e) => {
  kept = null;
  if (!panel.contains(e.detail.target)) return;
  const named = [...panel.querySelectorAll("[id], [name]")];
  for (const element of [touched, ...named])
    if (element?.isConnected && known(element) && inSight(element)) {
      kept = { selector: known(element), top: element.getBoundingClientRect().top };
      break;
    }
});
document.body.addEventListener("htmx:afterSwap", () => {
  const element = kept && panel.querySelector(kept.selector);
  if (element?.offsetParent) panel.scrollTop += element.getBoundingClientRect().top - kept.top;
  kept = null;
});

// Another step is read from its top.
let step = stepShown()?.textContent;
document.body.addEventListener("htmx:afterSettle", (e) => {
  const here = stepShown()?.textContent;
  if (here !== step && e.detail.target?.id === "panel") {
    step = here;
    e.detail.target.scrollTop = 0;
  }
});
