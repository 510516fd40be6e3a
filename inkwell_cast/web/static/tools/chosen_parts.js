// Several parts at once: chosen in the list or on the model, one by one or by a line drawn around them.
import { onDrag } from "../common/drag.js";
import { $ } from "../common/requests.js";

const SVG = "http://www.w3.org/2000/svg";

// Whether a press adds to what is chosen, or takes away from it.
export const adds = (e) => e.ctrlKey || e.metaKey || e.shiftKey;

export class ChosenParts {
  // `settings(names)` shows those of all that are chosen; `clicked(e)` tells a click from a drag.
  constructor(parts, model, { clicked, settings }) {
    Object.assign(this, { parts, model, names: new Set(), from: null, line: null, armed: false });
    $("parts-list").addEventListener("click", (e) => {
      const name = e.target.closest("[data-choose]")?.dataset.choose;
      if (name) this.press(name, e);
    });
    $("chosen-settings").onclick = () => settings([...this.names]);
    $("chosen-only").onclick = () => parts.only(...this.names);
    $("chosen-hide").onclick = () => parts.hide(...this.names);
    $("chosen-none").onclick = () => this.choose([]);
    $("lasso").onclick = () => this.arm(!this.armed);
    model.canvas.addEventListener("pointerup", (e) => {
      const at = adds(e) && e.button === 0 && clicked(e) && model.uvAt(e),
        name = at && model.partOf(at.triangle);
      if (name && model.partNames.length > 1) this.turn(name);
    });
    onDrag(
      model.canvas,
      { begin: (e) => this.begin(e), move: (e) => this.draw(e), end: (cancelled, e) => this.end(cancelled, e) },
      true,
    );
  }

  // A new low: what is chosen stays so by name.
  tend() {
    this.arm(false);
    this.choose([...this.names].filter((name) => this.model.partNames.includes(name)));
  }

  // As in any list: alone, one more or less with Ctrl, all from the last one on with Shift.
  press(name, e) {
    const all = this.model.partNames,
      last = all.indexOf(this.from);
    if (e.shiftKey && last >= 0) {
      const [a, b] = [last, all.indexOf(name)].sort((one, other) => one - other);
      this.choose([...this.names, ...all.slice(a, b + 1)]);
    } else if (e.ctrlKey || e.metaKey) this.turn(name);
    else this.choose(this.names.size === 1 && this.names.has(name) ? [] : [name]);
    this.from = name;
  }

  turn(name) {
    const names = new Set(this.names);
    if (!names.delete(name)) names.add(name);
    this.choose(names);
  }

  choose(names) {
    this.names = new Set(names);
    for (const row of $("parts-list").querySelectorAll("[data-choose]"))
      row.setAttribute("aria-pressed", this.names.has(row.dataset.choose));
    $("chosen").hidden = !this.names.size;
    $("chosen-count").textContent = `${this.names.size} chosen`;
    this.parts.show();
  }

  arm(on) {
    this.armed = on;
    $("lasso").setAttribute("aria-pressed", on);
    this.model.canvas.style.cursor = on ? "crosshair" : "";
  }

  putDown() {
    if (this.armed) this.arm(false);
  }

  begin(e) {
    if (!this.armed) return false;
    const svg = document.createElementNS(SVG, "svg");
    this.line = document.createElementNS(SVG, "polygon");
    svg.classList.add("lasso");
    svg.append(this.line);
    this.model.element.append(svg);
    this.points = [];
    this.draw(e);
    return true;
  }

  draw(e) {
    const { left, top } = this.model.canvas.getBoundingClientRect();
    this.points.push([e.clientX - left, e.clientY - top]);
    this.line.setAttribute("points", this.points.join(" "));
  }

  end(cancelled, e) {
    this.line.parentElement.remove();
    this.arm(false);
    if (cancelled || this.points.length < 3) return;
    const found = this.model.partsWithin((place) => within(place, this.points));
    this.choose(adds(e) ? [...this.names, ...found] : found);
  }
}

// Whether a place lies in a polygon that may cross itself: the even-odd rule.
function within([x, y], polygon) {
  let odd = false;
  for (let i = 0, j = polygon.length - 1; i < polygon.length; j = i++) {
    const [ax, ay] = polygon[i],
      [bx, by] = polygon[j];
    if (ay > y !== by > y && x < ((bx - ax) * (y - ay)) / (by - ay) + ax) odd = !odd;
  }
  return odd;
}
