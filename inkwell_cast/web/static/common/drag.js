// Dragging by mouse, pen or finger. The pointer is captured, so that the drag goes on outside of the element; a system
// that takes the pointer away ends it, and so does Escape. What is dragged by touch needs `touch-action: none` in the
// style sheet.

// `begin(event)` says whether the press takes hold; `move(event)` follows; `end(cancelled, event)` hears of its end.
// With `first` the press is heard before others hear it, and if it takes hold they do not hear of it at all.
export function onDrag(element, { begin, move, end }, first = false) {
  let held = null; // the number of the pointer that drags
  const leave = (cancelled, e) => {
    const pointer = held;
    held = null;
    removeEventListener("keydown", onKey, true);
    if (element.hasPointerCapture(pointer)) element.releasePointerCapture(pointer);
    end(cancelled, e);
  };
  const onKey = (e) => {
    if (e.key !== "Escape") return;
    e.stopImmediatePropagation();
    leave(true, e);
  };
  element.addEventListener(
    "pointerdown",
    (e) => {
      if (held !== null || e.button !== 0 || !begin(e)) return;
      held = e.pointerId;
      element.setPointerCapture(held);
      addEventListener("keydown", onKey, true);
      if (first) e.stopImmediatePropagation();
    },
    first,
  );
  element.addEventListener("pointermove", (e) => {
    if (e.pointerId === held) move(e);
  });
  for (const type of ["pointerup", "pointercancel", "lostpointercapture"]) {
    element.addEventListener(type, (e) => {
      if (e.pointerId !== held) return;
      if (type === "lostpointercapture" && e.target !== element) return; // what a finger touched lost it to the element
      leave(type !== "pointerup", e);
    });
  }
}

// Where an event lies across an element, 0 at its left edge and 1 at its right.
export function across(element, event) {
  const { left, width } = element.getBoundingClientRect();
  return (event.clientX - left) / width;
}
