// The sheet view: a map, the UV lines over it, and the texel under the pointer.
import { onDrag } from "../common/drag.js";

const CHUNK = 200; // triangles

export class SheetView {
  constructor(element) {
    this.element = element;
    this.canvas = element.querySelector("canvas");
    this.context = this.canvas.getContext("2d");
    this.canvas.addEventListener("contextrestored", () => this.draw());
    this.bitmap = null;
    this.size = [1, 1];
    this.zoom = 1;
    this.centre = [0.5, 0.5];
    this.uvsOn = false;
    this.lines = null;
    this.mark = null;
    this.hatched = null;
    this.other = null;
    this.flipped = false;
    this.difference = false;
    this.wipe = 0.5;
    this.seams = null;
    new ResizeObserver(() => this.draw()).observe(element);
    this.canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        this.zoomBy(Math.exp(-e.deltaY * 0.0015), e);
      },
      { passive: false },
    );
    const held = (e) => {
      this.drag = [e.clientX, e.clientY];
      return true;
    };
    onDrag(this.canvas, {
      begin: held,
      end: () => {
        this.drag = null;
      },
      move: (e) => {
        this.move((e.clientX - this.drag[0]) / this.scale, (e.clientY - this.drag[1]) / this.scale);
        held(e);
      },
    });
  }

  // The picture of another bake, to the right of the wipe.
  setOther(bitmap) {
    this.other = bitmap;
    this.draw();
  }

  setMap(bitmap, size) {
    this.bitmap = bitmap;
    this.size = size;
    this.draw();
  }

  // How far two pictures are apart, eightfold, so that it can be seen.
  drawDifference(c, x0, y0, width, height) {
    c.save();
    c.globalCompositeOperation = "difference";
    c.drawImage(this.other, x0, y0, width, height);
    c.globalCompositeOperation = "lighter"; // twice, and that twice, and so on
    for (let n = 0; n < 3; n++)
      c.drawImage(this.canvas, ...this.inPixels(x0, y0, width, height), x0, y0, width, height);
    c.restore();
  }

  inPixels(...box) {
    const ratio = window.devicePixelRatio || 1;
    return box.map((v) => v * ratio);
  }

  // UV triangles of one sheet (6 numbers each, origin at the bottom left), each moved into the tile.
  path(uv, wanted = () => true) {
    const lines = new Path2D();
    for (let i = 0; i + 5 < uv.length; i += 6) {
      if (!wanted(i / 6)) continue;
      const x = Math.floor((uv[i] + uv[i + 2] + uv[i + 4]) / 3),
        y = Math.floor((uv[i + 1] + uv[i + 3] + uv[i + 5]) / 3);
      lines.moveTo(uv[i] - x, 1 - uv[i + 1] + y);
      lines.lineTo(uv[i + 2] - x, 1 - uv[i + 3] + y);
      lines.lineTo(uv[i + 4] - x, 1 - uv[i + 5] + y);
      lines.closePath();
    }
    return lines;
  }

  // Many small paths: one path of many thousand lines takes minutes to draw.
  paths(uv, wanted) {
    const found = [];
    for (let i = 0; i < uv.length; i += 6 * CHUNK)
      found.push(this.path(uv.subarray(i, i + 6 * CHUNK), wanted && ((t) => wanted(t + i / 6))));
    return found;
  }

  setLines(uv, wanted) {
    this.lines = uv && this.paths(uv, wanted);
    this.draw();
  }

  // The borders of UV islands (4 numbers each), drawn heavier; each moved into the tile by its middle.
  setSeams(ends, wanted = () => true) {
    this.seams = null;
    if (ends) {
      const lines = (this.seams = new Path2D());
      for (let i = 0; i + 3 < ends.length; i += 4) {
        if (!wanted(i / 4)) continue;
        const x = Math.floor((ends[i] + ends[i + 2]) / 2),
          y = Math.floor((ends[i + 1] + ends[i + 3]) / 2);
        lines.moveTo(ends[i] - x, 1 - ends[i + 1] + y);
        lines.lineTo(ends[i + 2] - x, 1 - ends[i + 3] + y);
      }
    }
    this.draw();
  }

  // Hatching over the places of a finding; null takes it away.
  setHatched(uv) {
    this.hatched = uv?.length ? this.paths(uv) : null;
    this.draw();
  }

  hatching() {
    const tile = document.createElement("canvas"),
      c = tile.getContext("2d");
    tile.width = tile.height = 7;
    c.strokeStyle = "#c4402d";
    c.lineWidth = 1.6;
    for (const d of [-7, 0, 7]) {
      c.beginPath();
      c.moveTo(d, 7);
      c.lineTo(d + 7, 0);
      c.stroke();
    }
    return this.context.createPattern(tile, "repeat");
  }

  get scale() {
    const { clientWidth: w, clientHeight: h } = this.element;
    return Math.min((w - 32) / this.size[0], (h - 32) / this.size[1]) * this.zoom;
  }

  // Where texel (0, 0) begins on the canvas.
  get origin() {
    const { clientWidth: w, clientHeight: h } = this.element;
    return [w / 2 - this.centre[0] * this.size[0] * this.scale, h / 2 - this.centre[1] * this.size[1] * this.scale];
  }

  texelAt(event) {
    const r = this.canvas.getBoundingClientRect(),
      [x0, y0] = this.origin;
    const x = Math.floor((event.clientX - r.left - x0) / this.scale),
      y = Math.floor((event.clientY - r.top - y0) / this.scale);
    return x >= 0 && y >= 0 && x < this.size[0] && y < this.size[1] ? [x, y] : null;
  }

  zoomBy(factor, event) {
    const r = this.canvas.getBoundingClientRect();
    const px = event ? event.clientX - r.left : r.width / 2,
      py = event ? event.clientY - r.top : r.height / 2;
    const before = this.origin,
      s = this.scale;
    const tx = (px - before[0]) / s,
      ty = (py - before[1]) / s;
    this.zoom = Math.min(Math.max(this.zoom * factor, 0.5), 200);
    const after = this.origin,
      t = this.scale;
    this.move((px - after[0]) / t - tx, (py - after[1]) / t - ty);
  }

  move(dx, dy) {
    this.centre = [this.centre[0] - dx / this.size[0], this.centre[1] - dy / this.size[1]].map((c) =>
      Math.min(Math.max(c, 0), 1),
    );
    this.draw();
  }

  fit() {
    this.zoom = 1;
    this.centre = [0.5, 0.5];
    this.draw();
  }

  // Come closer to some UV triangles, with room around them.
  turnTo(uv) {
    let [x0, y0, x1, y1] = [Infinity, Infinity, -Infinity, -Infinity];
    for (let i = 0; i + 5 < uv.length; i += 6) {
      const x = Math.floor((uv[i] + uv[i + 2] + uv[i + 4]) / 3),
        y = Math.floor((uv[i + 1] + uv[i + 3] + uv[i + 5]) / 3);
      for (let k = 0; k < 6; k += 2) {
        x0 = Math.min(x0, uv[i + k] - x);
        x1 = Math.max(x1, uv[i + k] - x);
        y0 = Math.min(y0, uv[i + k + 1] - y);
        y1 = Math.max(y1, uv[i + k + 1] - y);
      }
    }
    this.zoom = Math.min(Math.max(0.55 / Math.max(x1 - x0, y1 - y0, 1e-6), 1), 8);
    this.centre = this.zoom > 1 ? [(x0 + x1) / 2, 1 - (y0 + y1) / 2] : [0.5, 0.5];
    this.draw();
  }

  setMark(texel) {
    this.mark = texel;
    this.draw();
  }

  draw() {
    if (this.waiting) return;
    this.waiting = requestAnimationFrame(() => {
      this.waiting = 0;
      this.drawNow();
    });
  }

  drawNow() {
    const { clientWidth: w, clientHeight: h } = this.element,
      ratio = window.devicePixelRatio || 1,
      c = this.context;
    if (!w || !h) return;
    if (this.canvas.width !== Math.round(w * ratio)) this.canvas.width = Math.round(w * ratio);
    if (this.canvas.height !== Math.round(h * ratio)) this.canvas.height = Math.round(h * ratio);
    const color = (name) => getComputedStyle(document.documentElement).getPropertyValue(name);
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.clearRect(0, 0, w, h);
    const [x0, y0] = this.origin,
      s = this.scale,
      width = this.size[0] * s,
      height = this.size[1] * s;
    c.fillStyle = color("--ground");
    c.fillRect(x0, y0, width, height);
    if (this.bitmap) {
      c.imageSmoothingEnabled = s < 2;
      c.imageSmoothingQuality = "high";
      c.drawImage(this.bitmap, x0, y0, width, height);
    }
    if (this.bitmap && this.other && this.difference) this.drawDifference(c, x0, y0, width, height);
    else if (this.bitmap && this.other) {
      const at = this.flipped ? 0 : w * this.wipe;
      c.save();
      c.beginPath();
      c.rect(at, 0, w - at, h);
      c.clip();
      c.drawImage(this.other, x0, y0, width, height);
      c.restore();
      if (!this.flipped) {
        c.fillStyle = color("--ink");
        c.fillRect(at - 0.75, 0, 1.5, h);
      }
    }
    c.strokeStyle = color("--strong");
    c.lineWidth = 1;
    c.strokeRect(x0 - 0.5, y0 - 0.5, width + 1, height + 1);
    if (this.lines && (this.uvsOn || !this.bitmap)) {
      c.save();
      c.transform(width, 0, 0, height, x0, y0);
      c.lineWidth = 0.8 / width;
      c.strokeStyle = this.bitmap ? "rgba(27,36,48,.55)" : color("--soft");
      for (const lines of this.lines) c.stroke(lines);
      if (this.seams) {
        c.lineWidth = 2 / width;
        c.strokeStyle = color("--verdigris");
        c.stroke(this.seams);
      }
      c.restore();
    }
    if (this.hatched) {
      c.save();
      c.beginPath();
      c.rect(x0, y0, width, height);
      c.clip();
      c.fillStyle = this.pattern ||= this.hatching();
      c.strokeStyle = "#c4402d";
      c.lineWidth = 1.2;
      for (const part of this.hatched) {
        const placed = new Path2D();
        placed.addPath(part, new DOMMatrix([width, 0, 0, height, x0, y0]));
        c.fill(placed);
        c.stroke(placed);
      }
      c.restore();
    }
    window.dispatchEvent(new CustomEvent("sheet-drawn"));
    if (this.mark) {
      const x = x0 + (this.mark[0] + 0.5) * s,
        y = y0 + (this.mark[1] + 0.5) * s;
      c.beginPath();
      c.arc(x, y, 6, 0, 7);
      c.lineWidth = 3.5;
      c.strokeStyle = "#f3eee3";
      c.stroke();
      c.lineWidth = 1.8;
      c.strokeStyle = "#1b2430";
      c.stroke();
    }
  }
}
