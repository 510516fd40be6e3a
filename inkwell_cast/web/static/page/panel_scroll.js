// Where the panel is scrolled to when it, or a part of it, is drawn anew.
import { step as stepShown } from "../common/requests.js";

const panel = document.getElementById("panel");

// What is in sight stays where it is on the screen, whatever comes or goes above it.
let seen = new Map(), // where the top of each control lies, by what finds it
  at = 0; // where the panel was scrolled to then
panel.style.overflowAnchor = "none"; // a browser that does the same would do it twice
function named(element) {
  if (element.id) return `[id="${CSS.escape(element.id)}"]`;
  const value = ["radio", "checkbox"].includes(element.type) ? `[value="${CSS.escape(element.value)}"]` : "";
  return `[name="${CSS.escape(element.name)}"]${value}`;
}
function look() {
  const { top, bottom } = panel.getBoundingClientRect();
  seen = new Map();
  at = panel.scrollTop;
  for (const element of panel.querySelectorAll("[id], input[name], select[name]")) {
    const box = element.getBoundingClientRect();
    if (box.height > 0 && box.top >= top && box.bottom <= bottom) seen.set(named(element), box.top);
  }
}
function moved() {
  const ways = [];
  for (const [name, top] of seen) {
    const found = panel.querySelectorAll(name);
    if (found.length === 1 && found[0].getClientRects().length) ways.push(found[0].getBoundingClientRect().top - top);
  }
  ways.sort((a, b) => a - b);
  return ways.length ? ways[ways.length >> 1] : 0; // one that was chosen may stand elsewhere now; most have not
}
let soon = 0;
const lookSoon = () => {
  cancelAnimationFrame(soon);
  soon = requestAnimationFrame(look);
};
panel.addEventListener("scroll", lookSoon, { passive: true });
panel.addEventListener("toggle", lookSoon, true);
addEventListener("resize", lookSoon);
// Who reads from the top, and has no field in hand, sees what arrives there.
let onField = false;
for (const kind of ["pointerdown", "focusin"])
  addEventListener(
    kind,
    (e) => (onField = Boolean(e.target.closest?.("#panel input, #panel select, #panel textarea, #panel label"))),
    true,
  );
function stay() {
  const end = panel.scrollHeight - panel.clientHeight,
    led = panel.scrollTop !== at && panel.scrollTop < end - 1; // to what was asked for; at its end it became too short
  if (!led && (panel.scrollTop > 0 || onField)) panel.scrollTop += moved();
  look();
}
new MutationObserver(stay).observe(panel, { childList: true, subtree: true });
panel.addEventListener("load", stay, true); // of pictures
look();

// Another step is read from its top.
let step = stepShown()?.textContent;
document.body.addEventListener("htmx:afterSettle", (e) => {
  const here = stepShown()?.textContent;
  if (here !== step && e.detail.target?.id === "panel") {
    step = here;
    e.detail.target.scrollTop = 0;
  }
});
