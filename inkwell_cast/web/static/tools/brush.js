// The nudge brush of the step Cage: it follows the pointer over the low and hands a finished stroke on.
import { onDrag } from "../common/drag.js";
import { $ } from "../common/requests.js";

const FIELDS = ["kind", "size", "move", "strength", "falloff", "mirror"],
  MOST_POINTS = 2000;

export class Brush {
  // `onStroke(values)` hears of each stroke, `onStart()` of the brush being taken up, `onTry(values)` of a stroke so
  // far.
  constructor(model, onStroke, onStart, onTry) {
    this.model = model;
    this.onStroke = onStroke;
    this.onStart = onStart;
    this.onTry = onTry;
    this.on = false;
    this.points = null;
    this.kept = null;
    const canvas = model.canvas;
    onDrag(
      canvas,
      {
        begin: (e) => this.begin(e),
        move: (e) => this.draw(e),
        end: (_cancelled, e) => this.end(e.type === "keydown"),
      },
      true,
    );
    canvas.addEventListener("pointermove", (e) => {
      if (this.on && !this.points && !e.buttons) this.hover(e);
    });
    canvas.addEventListener("pointerleave", () => {
      if (this.on && !this.points) model.setBrush(null);
    });
    canvas.addEventListener("keydown", (e) => {
      if (this.on && e.key === "Enter") this.dab();
    });
    canvas.addEventListener(
      "wheel",
      (e) => {
        if (this.on && e.shiftKey) {
          this.resize(Math.exp(-(e.deltaY || e.deltaX) * 0.001));
          e.preventDefault();
          e.stopImmediatePropagation();
        }
      },
      { capture: true, passive: false },
    );
  }

  // Take up the form of a fresh panel, with what was set in the one before.
  tend() {
    this.form = $("brush");
    if (!this.form) {
      if (this.on) this.set(false);
      return;
    }
    if (this.form.dataset.tended) return;
    this.form.dataset.tended = "yes";
    if (this.kept) for (const [name, value] of Object.entries(this.kept)) this.form.elements[name].value = value;
    this.form.addEventListener("input", () => {
      this.kept = this.values();
    });
    this.form.addEventListener("submit", (e) => e.preventDefault());
    const button = $("brush-on");
    button.setAttribute("aria-pressed", this.on);
    button.onclick = () => this.set(!this.on);
  }

  set(on) {
    this.on = on;
    $("brush-on")?.setAttribute("aria-pressed", on);
    this.model.canvas.style.cursor = on ? "crosshair" : "";
    if (on) this.onStart();
    else this.model.setBrush(null);
  }

  // What the form says; the pressure of a pen, in its mean, is a share of how far or how strongly.
  values() {
    const values = Object.fromEntries(FIELDS.map((name) => [name, this.form.elements[name].value]));
    if (this.pressures?.length) {
      // half pressed is as set
      const share = (2 * this.pressures.reduce((sum, pressure) => sum + pressure, 0)) / this.pressures.length;
      for (const name of ["move", "strength"])
        values[name] = String(name === "strength" ? Math.min(values[name] * share, 1) : values[name] * share);
    }
    return values;
  }
  get radius() {
    return Number(this.form.elements.size.value) * Number(this.form.dataset.scale) || 0;
  }

  // A larger or smaller brush, seen on the surface where it was last.
  resize(times) {
    const field = this.form.elements.size;
    field.value = Number((Number(field.value) * times).toPrecision(3));
    this.kept = this.values();
    if (this.last) this.model.setBrush(this.last, this.radius, this.points || []);
  }

  begin(e) {
    const at = this.on && e.button === 0 && this.model.uvAt(e);
    if (!at) return false; // beside the model the pointer still turns it
    this.points = [at.place];
    this.pressures = e.pointerType === "pen" ? [e.pressure] : [];
    this.model.setBrush(at, this.radius, this.points);
    return true;
  }

  draw(e) {
    if (e.pointerType === "pen") this.pressures.push(e.pressure);
    const at = this.model.uvAt(e),
      last = this.points[this.points.length - 1];
    this.last = at;
    if (!at) return;
    const far = Math.hypot(...at.place.map((v, k) => v - last[k])) > this.radius / 5;
    if (far && this.points.length < MOST_POINTS) {
      this.points.push(at.place);
      this.onTry({ ...this.values(), points: [...this.points] });
    }
    this.model.setBrush(at, this.radius, this.points);
  }

  hover(e) {
    const at = this.model.uvAt(e);
    this.last = at;
    this.model.setBrush(this.last, this.radius, []);
  }

  // A stroke that Escape ended is drawn no more, and the map goes back to what it was; any other is kept.
  end(escaped) {
    const stroke = { ...this.values(), points: this.points };
    this.points = null;
    this.pressures = [];
    this.model.setBrush(null);
    if (escaped) this.onTry(null);
    else this.onStroke(stroke);
  }

  // From the keyboard: one dab in the middle of the view.
  dab() {
    const r = this.model.canvas.getBoundingClientRect(),
      at = this.model.uvAt({ clientX: r.left + r.width / 2, clientY: r.top + r.height / 2 });
    if (at) this.onStroke({ ...this.values(), points: [at.place] });
  }
}
