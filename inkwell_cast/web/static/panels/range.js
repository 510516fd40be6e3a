// The range of a map: what values there are, as the server counted them, and the handle that sets what is full.
import { across, onDrag } from "../common/drag.js";
import { short } from "../common/requests.js";

const NS = "http://www.w3.org/2000/svg",
  WIDTH = 260,
  LEFT = 6,
  RIGHT = 254,
  TOP = 6,
  FLOOR = 46;

export class RangeRule {
  // `svg` carries the map's facts; `onSet(field, value)` hears of a new range.
  constructor(svg, onSet) {
    this.svg = svg;
    this.facts = JSON.parse(svg.dataset.range);
    this.onSet = onSet;
    this.full = Math.max(Math.abs(this.facts.black), Math.abs(this.facts.white));
    onDrag(svg, {
      begin: (e) => this.take(e),
      move: (e) => this.follow(e),
      end: (cancelled) => this.leave(cancelled),
    });
    this.draw();
  }

  make(name, attributes, parent = this.svg, text) {
    const e = document.createElementNS(NS, name);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    if (text !== undefined) e.textContent = text;
    parent.append(e);
    return e;
  }

  draw() {
    const { span, counts } = this.facts.histogram,
      most = this.held ? this.frozen : Math.max(span, this.full) * 1.1;
    const x = (v) => LEFT + ((v + most) / (2 * most)) * (RIGHT - LEFT),
      tallest = Math.max(...counts.map(Math.sqrt), 1);
    const both = this.facts.black < 0,
      low = both ? -this.full : 0,
      high = this.full;
    this.most = most;
    this.svg.replaceChildren();
    const defs = this.make("defs", {}),
      pattern = this.make(
        "pattern",
        { id: "range-hatch", width: 4, height: 4, patternUnits: "userSpaceOnUse", patternTransform: "rotate(45)" },
        defs,
      );
    this.make("rect", { width: 1.6, height: 4, fill: "var(--vermilion)" }, pattern);
    this.make("rect", { x: x(low), y: TOP, width: x(high) - x(low), height: FLOOR - TOP, fill: "var(--held)" });
    counts.forEach((count, i) => {
      if (!count) return;
      const from = -span + (2 * span * i) / counts.length,
        to = from + (2 * span) / counts.length,
        middle = (from + to) / 2;
      const h = Math.max((Math.sqrt(count) / tallest) * (FLOOR - TOP - 4), 1),
        beyond = middle > high || (both && middle < low);
      this.make("rect", {
        x: x(from),
        y: FLOOR - h,
        width: Math.max(x(to) - x(from) - 0.6, 0.8),
        height: h,
        fill: beyond ? "url(#range-hatch)" : "var(--soft)",
        stroke: beyond ? "var(--vermilion)" : "none",
        "stroke-width": 0.5,
      });
    });
    this.make("path", {
      d: `M${LEFT - 2} ${FLOOR}H${RIGHT + 2}M${x(0)} ${TOP}V${FLOOR + 3}`,
      stroke: "var(--ink)",
      fill: "none",
    });
    this.make("text", { x: x(0), y: FLOOR + 27, "text-anchor": "middle" }, this.svg, "0");
    if (both) this.handle(low, x(low), -1);
    this.handle(high, x(high), 1);
  }

  set(to) {
    this.full = Math.max(Number(to.toPrecision(3)), this.most / 1000);
    this.draw();
  }

  take(e) {
    const handle = e.target.closest?.("[data-side]");
    if (!handle) return false;
    this.held = Number(handle.dataset.side);
    this.frozen = this.most;
    this.before = this.full;
    e.preventDefault();
    return true;
  }

  follow(e) {
    const share = (across(this.svg, e) * WIDTH - LEFT) / (RIGHT - LEFT);
    this.set(this.held * (2 * share - 1) * this.most);
  }

  // A drag that the system ended leaves the range as it was.
  leave(cancelled) {
    this.held = 0;
    if (cancelled) this.full = this.before;
    this.draw();
    if (!cancelled) this.onSet(this.svg.dataset.field, this.full);
  }

  handle(value, x, side) {
    const g = this.make("g", {
      class: "handle",
      "data-side": side,
      tabindex: 0,
      role: "slider",
      "aria-label": `${side < 0 ? "Black" : "White"} at, ${this.facts.unit}`,
      "aria-valuenow": short(value),
    });
    this.make("path", { d: `M${x} ${TOP}V${FLOOR}`, stroke: "var(--verdigris)", "stroke-width": 2 }, g);
    this.make("path", { d: `M${x - 6} ${FLOOR}h12v6l-6 5-6-5z`, fill: "var(--verdigris)" }, g);
    this.make("rect", { x: x - 9, y: TOP, width: 18, height: FLOOR, fill: "transparent" }, g);
    this.make(
      "text",
      { x: Math.min(Math.max(x, 16), 244), y: FLOOR + 27, "text-anchor": "middle", class: "green" },
      this.svg,
      short(value),
    );
    g.addEventListener("keydown", (e) => {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
      if (!by) return;
      this.set(this.full + (by * side * this.most) / 50);
      this.onSet(this.svg.dataset.field, this.full);
      e.preventDefault();
    });
  }
}
