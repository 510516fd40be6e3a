// What stays as it was when the panel is drawn anew: unfolded parts, a field that is being typed in.
import { RangeRule } from "../panels/range.js";
import { ask, base } from "./page.js";

// A panel that was drawn before the one that stands there arrives late, and is not shown.
let stands = ["", 0];
document.body.addEventListener("htmx:beforeSwap", (e) => {
  if (e.detail.target.id !== "panel" || !e.detail.shouldSwap) return;
  const [step, time] = (e.detail.xhr.getResponseHeader("X-As-Of") ?? "").split(" ");
  if (step === stands[0] && Number(time) < stands[1]) {
    e.detail.shouldSwap = false;
    e.stopImmediatePropagation();
  } else stands = [step, Number(time)];
});

// A panel that arrives while a button is held down in what it replaces, the rail included, waits until it is let go: a
// click that began on the old one would be heard by nobody.
let pressed = false;
const waiting = [];
addEventListener("pointerdown", (e) => (pressed = Boolean(e.target.closest?.("#panel, .rail"))), true);
for (const end of ["pointerup", "pointercancel"])
  addEventListener(
    end,
    () =>
      setTimeout(() => {
        pressed = false;
        for (const swap of waiting.splice(0)) swap();
      }),
    true,
  );
document.body.addEventListener("htmx:beforeSwap", (e) => {
  const { target, serverResponse } = e.detail;
  if (!pressed || target.id !== "panel" || !e.detail.shouldSwap) return;
  e.detail.shouldSwap = false;
  e.stopImmediatePropagation(); // what is to stay is noted when it is swapped
  waiting.push(() => {
    target.dispatchEvent(new CustomEvent("htmx:beforeSwap", { bubbles: true, detail: { target, pathInfo: {} } }));
    const eventInfo = { elt: target, target };
    htmx.swap(target, serverResponse, { swapStyle: "innerHTML", swapDelay: 0, settleDelay: 0 }, { eventInfo });
  });
});

// What an answer tells the page is told on the element that asked. If a panel that came in between took that away,
// nobody would hear that settings have changed; then the page is told itself.
document.body.addEventListener("htmx:beforeRequest", (e) => {
  const { elt, xhr } = e.detail;
  if (!elt.closest("#panel")) return; // the box of a bake looks after itself
  let gone = false;
  xhr.addEventListener("readystatechange", () => {
    if (xhr.readyState === XMLHttpRequest.DONE) gone = !elt.isConnected; // before the answer itself takes it away
  });
  xhr.addEventListener("load", () => {
    const told = gone && xhr.getResponseHeader("HX-Trigger");
    if (told) for (const [name, detail] of Object.entries(JSON.parse(told))) htmx.trigger(document.body, name, detail);
  });
});

// What was unfolded in the panel, and the open menu of a bake, stay so when they are drawn anew.
const unfolded = { panel: new Set(), "bakes-leaf": new Set() };
document.body.addEventListener("htmx:beforeSwap", (e) => {
  const { id } = e.detail.target;
  if (unfolded[id]) unfolded[id] = new Set([...document.querySelectorAll(`#${id} details[id][open]`)].map((d) => d.id));
});
document.body.addEventListener("htmx:afterSwap", () => {
  for (const [id, open] of Object.entries(unfolded)) {
    for (const details of document.querySelectorAll(`#${id} details[id]`))
      if (open.has(details.id)) details.open = true;
    open.clear(); // what is closed later stays closed
  }
});
function tendMaps() {
  const change = (field, value) => {
    const input = document.querySelector(`#panel input[name="${field}"]`);
    input.value = value;
    input.dispatchEvent(new Event("change", { bubbles: true }));
  };
  for (const svg of document.querySelectorAll(".range-rule:not([data-tended])")) {
    svg.dataset.tended = "yes";
    new RangeRule(svg, change);
  }
  for (const color of document.querySelectorAll("[data-id-name]:not([data-tended])")) {
    color.dataset.tended = "yes";
    color.addEventListener("change", (e) => {
      e.stopPropagation();
      ask("POST", `${base}/id-color`, { target: "#panel", values: { name: color.dataset.idName, color: color.value } });
    });
  }
}
document.body.addEventListener("htmx:afterSettle", tendMaps);
tendMaps();

// A panel that arrives while the next field is being filled in must not take away what was typed there.
let typing = null;
document.body.addEventListener("htmx:beforeSwap", (e) => {
  const field = document.activeElement;
  const inPanel = e.detail.target.id === "panel" && field?.matches("#panel input[type=text]");
  typing = inPanel
    ? {
        name: field.name,
        value: field.value,
        dirty: field.value !== field.defaultValue,
        from: field.selectionStart,
        to: field.selectionEnd,
      }
    : null;
});
document.body.addEventListener("htmx:afterSwap", () => {
  const field = typing && document.querySelector(`#panel input[name="${typing.name}"]`);
  if (!field) return;
  if (typing.dirty) {
    field.value = typing.value;
    const send = () => {
      if (field.value !== field.defaultValue && Number(field.value) !== Number(field.defaultValue))
        field.dispatchEvent(new Event("change", { bubbles: true }));
    };
    field.addEventListener("focusout", send, { once: true });
    field.addEventListener("keydown", (e) => {
      if (e.key === "Enter") send();
    }); // a browser tells of no change that a script made
  }
  field.focus();
  field.setSelectionRange(typing.from, typing.to);
  typing = null;
});
