// The Section: low, cage and sculpt in a slice, as the server cut it. It draws lines, body hatching, rays and a scale
// bar.

const NORMAL = 15; // pixels
const NS = "http://www.w3.org/2000/svg";
const short = (v) => (v === null ? "" : Number(v.toPrecision(3)).toString());

export class SectionView {
  constructor(svg, words) {
    this.svg = svg;
    this.words = words;
    this.found = null;
    this.lit = -1;
  }

  show(found) {
    this.found = found;
    this.lit = -1;
    this.draw();
  }

  ray(n) {
    return this.found?.header.rays[n];
  }

  light(n) {
    this.lit = n;
    this.draw();
  }

  // The ray nearest to a pointer event, or -1.
  nearest(event) {
    if (!this.found || !this.scale) return -1;
    const r = this.svg.getBoundingClientRect(),
      at = [event.clientX - r.left, event.clientY - r.top];
    const far = this.found.header.rays.map(({ drawn: [from, , to] }) => {
      const [ax, ay, bx, by] = [...this.at(from), ...this.at(to)],
        ux = bx - ax,
        uy = by - ay;
      const s = Math.min(Math.max(((at[0] - ax) * ux + (at[1] - ay) * uy) / Math.max(ux * ux + uy * uy, 1e-9), 0), 1);
      return Math.hypot(at[0] - ax - s * ux, at[1] - ay - s * uy);
    });
    const least = Math.min(...far);
    return least < 14 ? far.indexOf(least) : -1;
  }

  // The next ray to the left or right of the lit one.
  step(by) {
    const count = this.found?.header.rays.length || 0;
    return count ? (this.lit < 0 ? Math.floor(count / 2) : Math.min(Math.max(this.lit + by, 0), count - 1)) : -1;
  }

  at([x, y]) {
    return [this.svg.clientWidth / 2 + x * this.scale, this.svg.clientHeight * 0.46 - y * this.scale];
  }

  make(name, attributes, text) {
    const e = document.createElementNS(NS, name);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    if (text !== undefined) e.textContent = text;
    this.svg.append(e);
    return e;
  }

  draw() {
    this.svg.replaceChildren();
    const { clientWidth: w, clientHeight: h } = this.svg;
    if (!this.found || !w || !h) return;
    const { header: s, arrays } = this.found,
      scale = (this.scale = h / 2 / s.halfHeight);
    const x = (v) => w / 2 + v * scale,
      y = (v) => h * 0.46 - v * scale;
    const path = (lines) => {
      let d = "";
      for (let i = 0; i < lines.length; i += 4) {
        const [x0, x1] = [x(lines[i]), x(lines[i + 2])],
          [y0, y1] = [y(lines[i + 1]), y(lines[i + 3])];
        d += `M${x0.toFixed(1)} ${y0.toFixed(1)}L${x1.toFixed(1)} ${y1.toFixed(1)}`;
      }
      return d;
    };
    this.make("path", {
      d: this.body(arrays.sculpt, x, y),
      stroke: "var(--sculpt)",
      "stroke-width": 0.6,
      opacity: 0.55,
      fill: "none",
    });
    this.make("path", {
      d: path(arrays.cage),
      stroke: "var(--verdigris)",
      "stroke-width": 1.2,
      "stroke-dasharray": "5 3",
      fill: "none",
    });
    this.make("path", { d: path(arrays.low), stroke: "var(--ink)", "stroke-width": 1.3, fill: "none" });
    this.make("path", {
      d: path(arrays.sculpt),
      stroke: "var(--sculpt)",
      "stroke-width": 1.7,
      fill: "none",
      "stroke-linecap": "round",
    });
    for (const [n, ray] of s.rays.entries()) this.drawRay(ray, n === this.lit);
    const top = y(s.outward);
    this.make("path", {
      d: `M${w / 2} ${Math.max(top, 4)}V${y(s.height ?? -s.inward)}`,
      stroke: s.height === null ? "var(--vermilion)" : "var(--ink)",
      "stroke-width": 1.6,
    });
    this.legend();
    this.scaleBar(w, h, scale);
    const [out, into] = [short(s.outward), short(s.inward)];
    if (s.height === null) {
      this.words.textContent = `${s.part}: the ray of ${out} out and ${into} in strikes nothing`;
      return;
    }
    const height = Math.abs(s.height) < 1e-4 * (s.outward + s.inward) ? "0" : short(s.height);
    const struck = `struck ${s.struck} at ${height}, angle ${s.angle.toFixed(1)}°`;
    this.words.textContent = `${s.part}: reach ${out} / ${into}, ${struck}`;
  }

  // Short slanted strokes on the body's side of the sculpt, evenly along it.
  body(lines, x, y) {
    let d = "",
      left = 0;
    for (let i = 0; i < lines.length; i += 4) {
      const ax = x(lines[i]),
        ay = y(lines[i + 1]),
        bx = x(lines[i + 2]),
        by = y(lines[i + 3]),
        length = Math.hypot(bx - ax, by - ay);
      if (!length) continue;
      const ux = (bx - ax) / length,
        uy = (by - ay) / length; // on the screen the body lies to the right of the way
      for (left; left < length; left += 5) {
        const px = ax + ux * left,
          py = ay + uy * left;
        d += `M${px.toFixed(1)} ${py.toFixed(1)}l${(-uy * 7 - ux * 5).toFixed(1)} ${(ux * 7 - uy * 5).toFixed(1)}`;
      }
      left -= length;
    }
    return d;
  }

  drawRay({ drawn: [from, , to], struck, normal }, lit) {
    const color = struck ? "var(--verdigris)" : "var(--vermilion)",
      [ax, ay] = this.at(from),
      [bx, by] = this.at(to);
    this.make("path", {
      d: `M${ax} ${ay}L${bx} ${by}`,
      stroke: color,
      "stroke-width": lit ? 2.6 : 0.9,
      ...(struck ? {} : { "stroke-dasharray": "2 3" }),
    });
    this.make("circle", { cx: ax, cy: ay, r: lit ? 3.5 : 2, fill: "var(--panel)", stroke: color });
    if (!struck) {
      this.make("path", { d: `M${bx - 3} ${by - 3}l6 6m0-6l-6 6`, stroke: color, "stroke-width": 1.3 });
      return;
    }
    this.make("circle", { cx: bx, cy: by, r: lit ? 3.5 : 2, fill: color });
    const nx = bx + normal[0] * NORMAL,
      ny = by - normal[1] * NORMAL,
      length = Math.hypot(...normal);
    if (length < 0.2) return; // it points out of the drawing
    const ux = normal[0] / length,
      uy = -normal[1] / length;
    const barbs = [-2.4, 2.4].map((side) => `${nx - ux * 4 + uy * side} ${ny - uy * 4 - ux * side}`);
    this.make("path", {
      d: `M${bx} ${by}L${nx} ${ny}M${barbs[0]}L${nx} ${ny}L${barbs[1]}`,
      stroke: "var(--sculpt)",
      "stroke-width": lit ? 1.6 : 0.9,
      fill: "none",
    });
  }

  legend() {
    const words = [
      ["cage", "var(--verdigris)"],
      ["low", "var(--ink)"],
      ["sculpt", "var(--sculpt)"],
    ];
    for (const [n, [word, fill]] of words.entries())
      this.make("text", { x: 6, y: 14 + 14 * n, fill, "font-size": 11.5 }, word);
  }

  scaleBar(w, h, scale) {
    const wanted = 90 / scale,
      power = 10 ** Math.floor(Math.log10(wanted)),
      step = [5, 2, 1].find((k) => k * power <= wanted) * power;
    this.make("path", {
      d: `M${w - 12 - step * scale} ${h - 12}v4h${step * scale}v-4`,
      stroke: "var(--ink)",
      fill: "none",
    });
    this.make(
      "text",
      { x: w - 12 - (step * scale) / 2, y: h - 14, "text-anchor": "middle", fill: "var(--ink)", "font-size": 11.5 },
      `${short(step)} units`,
    );
  }
}
