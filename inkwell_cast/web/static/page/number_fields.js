// Fields of numbers: the word before one is dragged to change it, arrow keys step it. The server reads sums and units.
const FIELD = "input[inputmode=decimal]", STEPS = 60; // pixels of a drag that double or halve, from where it began

const figures = (value) => Number(value.toPrecision(3)).toString();
const step = (value) => 10 ** Math.floor(Math.log10(Math.max(Math.abs(value), 1e-6)) - 0.999);

function put(field, value, event) {
  field.value = figures(value);
  field.dispatchEvent(new Event(event, { bubbles: true }));
}

document.addEventListener("pointerdown", (e) => {
  const word = e.target.closest(".field > span"), field = word?.parentElement.querySelector(FIELD);
  const from = Number(field?.value);
  if (!field || !Number.isFinite(from) || e.button) return;
  const whole = Number.isInteger(from) && from > 9, begin = e.clientX;
  let moved = false;
  const move = (m) => {
    const by = m.clientX - begin;
    if (!moved && Math.abs(by) < 4) return;
    moved = true;
    const value = from ? from * 2 ** (by / STEPS) : by / 100;
    put(field, whole ? Math.round(value) : value, "input");
  };
  const up = () => {
    removeEventListener("pointermove", move);
    removeEventListener("pointerup", up);
    if (!moved) return;
    addEventListener("click", (c) => { c.preventDefault(); c.stopPropagation(); }, { capture: true, once: true });
    field.dispatchEvent(new Event("change", { bubbles: true }));
  };
  addEventListener("pointermove", move);
  addEventListener("pointerup", up);
  e.preventDefault();
});

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
