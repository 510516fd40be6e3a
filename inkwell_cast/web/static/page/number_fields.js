// Fields of numbers: the word before one is dragged to change it, arrow keys step it. The server reads sums and units.
import { onDrag } from "../common/drag.js";
import { json, short } from "../common/requests.js";
import { base } from "./page.js";

const FIELD = "input[inputmode=decimal]",
  STEPS = 160, // pixels of a drag that double or halve, from where it began
  FINER = 5; // times, with Shift

const step = (value) => 10 ** Math.floor(Math.log10(Math.max(Math.abs(value), 1e-6)) - 0.999);

function put(field, value, event) {
  field.value = short(value);
  field.dispatchEvent(new Event(event, { bubbles: true }));
}

// What is dragged: the field, the number it held, whether it takes whole numbers, and where the drag began.
let held = null;
document.addEventListener(
  "pointerdown",
  (e) => {
    const word = e.target.closest(".field > span"),
      field = word?.parentElement.querySelector(FIELD);
    if (!field || word.dataset.tended) return;
    word.dataset.tended = "yes"; // this press too is heard there
    onDrag(word, { begin: (press) => take(press, field), move, end: leave });
  },
  true,
);

function take(e, field) {
  const from = Number(field.value);
  if (!Number.isFinite(from)) return false;
  held = {
    field,
    from,
    whole: Number.isInteger(from) && from > 9,
    at: e.clientX,
    by: 0,
    moved: false,
    before: field.value,
  };
  e.preventDefault();
  return true;
}

function move(e) {
  const { field, from, whole } = held;
  held.by += (e.clientX - held.at) / (e.shiftKey ? FINER : 1);
  held.at = e.clientX;
  const by = held.by;
  if (!held.moved && Math.abs(by) < 4) return;
  held.moved = true;
  const value = from ? from * 2 ** (by / STEPS) : by / 100;
  put(field, whole ? Math.round(value) : value, "input");
}

function leave(cancelled) {
  const { field, moved, before } = held;
  held = null;
  if (!moved) return;
  if (cancelled) {
    field.value = before;
    field.dispatchEvent(new Event("input", { bubbles: true }));
    return;
  }
  addEventListener(
    "click",
    (c) => {
      c.preventDefault();
      c.stopPropagation();
    },
    { capture: true, once: true },
  );
  field.dispatchEvent(new Event("change", { bubbles: true }));
}

document.addEventListener("keydown", (e) => {
  const by = { ArrowUp: 1, ArrowDown: -1 }[e.key];
  if (!by || !e.target.matches?.(FIELD)) return;
  const value = Number(e.target.value);
  if (!Number.isFinite(value)) return;
  e.target.dataset.stepped = "yes"; // a browser tells of no change that a script made
  put(e.target, Math.max(value + by * step(value) * (e.shiftKey ? 10 : 1), 0), "input");
  e.preventDefault();
});
document.addEventListener("focusout", (e) => {
  if (!e.target.dataset?.stepped) return;
  delete e.target.dataset.stepped;
  e.target.dispatchEvent(new Event("change", { bubbles: true }));
});

// Fields that no form sends are read by the server as they are left: the number that it found stands in them, or a word
// beside says why there is none.
document.addEventListener(
  "change",
  async (e) => {
    const field = e.target,
      of = field.dataset?.typed,
      text = field.value;
    if (!of || field.dataset.read === text) return;
    const good = field.dataset.read ?? field.defaultValue,
      query = new URLSearchParams({ text, of });
    const { value, error } = await json(`${base}/typed?${query}`).catch((refused) => ({ error: refused.message }));
    sayOf(field, error ?? "");
    if (field.value !== text) return; // it was changed again meanwhile
    field.dataset.read = field.value = error ? good : short(value);
    field.dispatchEvent(new Event("input", { bubbles: true }));
  },
  true,
);

function sayOf(field, words) {
  const label = field.closest(".field");
  let line = label.nextElementSibling;
  if (!line?.classList.contains("problem")) {
    line = document.createElement("p");
    line.className = "problem";
    line.setAttribute("role", "alert");
    label.after(line);
  }
  line.textContent = words;
  line.hidden = !words;
}
