// The reach rule: the distribution of the sculpt along the rays, and two handles. It draws what the server measured.
import { across, onDrag } from "../common/drag.js";
import { short } from "../common/requests.js";

const NS = "http://www.w3.org/2000/svg",
  WIDTH = 260,
  LEFT = 6,
  RIGHT = 254,
  TOP = 8,
  FLOOR = 58;
const FARTHEST = 8; // times the reach: what little lies farther off must not squeeze the rest
const FINER = 5; // times, while Shift is held
const APART = 80; // pixels between the handles, from which on their numbers and the zero stand below them

function make(name, attributes, parent, text) {
  const e = document.createElementNS(NS, name);
  for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
  if (text !== undefined) e.textContent = text;
  parent.append(e);
  return e;
}

export class ReachRule {
  // `svg` carries the reach in scene units; `onTry(outward, inward)` hears of a drag, `onSet` of its end.
  constructor(svg, onTry, onSet) {
    this.svg = svg;
    this.reach = { outward: Number(svg.dataset.outward), inward: Number(svg.dataset.inward) };
    this.scale = Number(svg.dataset.scale) || 1; // scene units in one of the unit of the fields
    this.rule = null;
    this.onTry = onTry;
    this.onSet = onSet;
    onDrag(svg, {
      // handles are drawn anew while they move
      begin: (e) => this.take(e),
      move: (e) => this.follow(e),
      end: (cancelled) => this.leave(cancelled),
    });
    this.draw();
  }

  setRule(rule) {
    this.rule = rule;
    if (!this.held) this.draw();
  }

  // Whether a fitted cage or a cage mesh, not the reach, says how far out rays start.
  get follows() {
    return "fitted" in this.svg.dataset || "cage" in this.svg.dataset;
  }

  get span() {
    const cap = FARTHEST * Math.max(this.reach.outward, this.reach.inward) || Infinity;
    const needed = (this.rule ? this.rule.needed : [0, 0]).map((far) => Math.min(far, cap));
    const most = Math.max(needed[0], needed[1], this.reach.outward, this.reach.inward, 1e-12);
    return [
      Math.max(this.reach.inward, needed[1], most * 0.3) * 1.2,
      Math.max(this.reach.outward, needed[0], most * 0.3) * 1.2,
    ];
  }

  draw() {
    const [below, above] = this.held ? this.frozen : this.span,
      { outward, inward } = this.reach;
    const x = (v) => LEFT + ((v + below) / (below + above)) * (RIGHT - LEFT);
    this.at = (px) => ((px - LEFT) / (RIGHT - LEFT)) * (below + above) - below;
    this.svg.replaceChildren();
    const defs = make("defs", {}, this.svg),
      pattern = make(
        "pattern",
        { id: "rule-hatch", width: 4, height: 4, patternUnits: "userSpaceOnUse", patternTransform: "rotate(45)" },
        defs,
      );
    make("rect", { width: 1.6, height: 4, fill: "var(--vermilion)" }, pattern);
    const end = this.follows && this.rule ? Math.max(this.rule.needed[0], outward) : outward;
    make(
      "rect",
      { x: x(-inward), y: TOP, width: Math.max(x(end) - x(-inward), 0), height: FLOOR - TOP, fill: "var(--held)" },
      this.svg,
    );
    if (this.rule) {
      const { edges, surface } = this.rule,
        tallest = Math.max(...surface.map(Math.sqrt), 1e-30);
      surface.forEach((s, i) => {
        if (!s || edges[i + 1] < -below || edges[i] > above) return;
        const h = Math.max((Math.sqrt(s) / tallest) * (FLOOR - TOP - 8), 1),
          middle = (edges[i] + edges[i + 1]) / 2;
        const lost = (middle > outward && !this.follows) || middle < -inward;
        const from = Math.max(x(edges[i]), LEFT),
          to = Math.min(x(edges[i + 1]), RIGHT);
        make(
          "rect",
          {
            x: from,
            y: FLOOR - h,
            width: Math.max(to - from - 0.6, 0.8),
            height: h,
            fill: lost ? "url(#rule-hatch)" : "var(--soft)",
            stroke: lost ? "var(--vermilion)" : "none",
            "stroke-width": 0.5,
          },
          this.svg,
        );
      });
      const [out, into] = this.rule.needed;
      if (into > below) make("text", { x: LEFT, y: TOP + 7 }, this.svg, `‹ to ${short(into)}`);
      if (out > above) make("text", { x: RIGHT, y: TOP + 7, "text-anchor": "end" }, this.svg, `to ${short(out)} ›`);
    }
    make("path", { d: `M${LEFT - 2} ${FLOOR}H${RIGHT + 2}`, stroke: "var(--ink)" }, this.svg);
    make("path", { d: `M${x(0)} ${TOP - 2}V${FLOOR + 4}`, stroke: "var(--ink)", "stroke-width": 1.5 }, this.svg);
    make("text", { x: x(0) + 3, y: TOP + 7 }, this.svg, "low");
    const apart = x(outward) - x(-inward) >= APART;
    if (apart) make("text", { x: x(0), y: FLOOR + 31, "text-anchor": "middle" }, this.svg, "0");
    this.handle("inward", x(-inward), -1, apart);
    if (!("cage" in this.svg.dataset)) this.handle("outward", x(outward), 1, apart);
  }

  take(e) {
    const name = e.target.closest?.("[data-handle]")?.dataset.handle;
    if (!name) return false;
    this.held = name;
    this.frozen = this.span;
    this.before = { ...this.reach };
    this.grip = { x: across(this.svg, e) * WIDTH, value: this.reach[name] };
    e.preventDefault();
    return true;
  }

  follow(e) {
    const x = across(this.svg, e) * WIDTH,
      side = this.held === "inward" ? -1 : 1,
      by = ((this.at(x) - this.at(this.grip.x)) * side) / (e.shiftKey ? FINER : 1);
    this.grip = { x, value: Math.max(0, this.grip.value + by) }; // Shift may come and go in the midst
    this.reach[this.held] = Number(this.grip.value.toPrecision(3));
    this.draw();
    this.onTry(this.reach);
  }

  // A drag that the system ended leaves the reach as it was.
  leave(cancelled) {
    this.held = null;
    if (cancelled) {
      this.reach = this.before;
      this.onTry(this.reach);
    }
    this.draw();
    if (!cancelled) this.onSet(this.reach);
  }

  handle(name, x, side, apart) {
    const g = make(
      "g",
      {
        class: "handle",
        tabindex: 0,
        role: "slider",
        "data-handle": name,
        "aria-label": `${name} reach, scene units`,
        "aria-valuenow": short(this.reach[name]),
        "aria-valuemin": 0,
      },
      this.svg,
    );
    make("path", { d: `M${x} ${TOP}V${FLOOR}`, stroke: "var(--verdigris)", "stroke-width": 2 }, g);
    make("path", { d: `M${x - 6} ${FLOOR}h12v8l-6 6-6-6z`, fill: "var(--verdigris)" }, g);
    make("rect", { x: x - 9, y: TOP, width: 18, height: FLOOR, fill: "transparent" }, g);
    const anchor = apart ? "middle" : side < 0 ? "end" : "start",
      room = apart ? 14 : 40;
    const place = apart ? x : x - 3 * side;
    make(
      "text",
      { x: Math.min(Math.max(place, room), WIDTH - room), y: FLOOR + 31, "text-anchor": anchor, class: "green" },
      this.svg,
      short(this.reach[name]),
    );
    g.addEventListener("keydown", (e) => {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
      if (!by) return;
      this.reach[name] = Math.max(
        0,
        Number((this.reach[name] + (by * side * (this.span[0] + this.span[1])) / 100).toPrecision(3)),
      );
      this.draw();
      this.onTry(this.reach);
      this.onSet(this.reach);
      e.preventDefault();
    });
  }
}
