// What is laid over the model: hatched marks, points, pockets, and the pin of the pointer.
import * as THREE from "three";
import { short } from "../common/requests.js";
import { CameraMoves } from "./camera.js";

export const ink = (name) =>
  new THREE.Color().setStyle(
    getComputedStyle(document.documentElement).getPropertyValue(name).trim(),
    THREE.LinearSRGBColorSpace,
  );

const SPECK = 4; // pixels
const HATCH = `precision highp float; uniform float strength; void main() {
    float line = mod(gl_FragCoord.x + gl_FragCoord.y, 7.0) > 2.6 ? 0.16 : 1.0;
    gl_FragColor = vec4(0.77, 0.25, 0.18, strength * line);
  }`;

const HIGH = 0.014; // of the view: a number on a line
const INK = "0.10, 0.12, 0.19"; // the model is light under any theme
const INK_COLOR = new THREE.Vector3(...INK.split(",").map(Number));
const GRIP = 9; // pixels from a rim or a middle within which it is taken

const WHOLE = [1, 1],
  DASHED = [8, 5],
  DOTTED = [4, 2]; // pixels from one dash to the next, and of those how many are drawn

function inkLines(points, [every, drawn], hidden, color = INK_COLOR) {
  if (!points.length) return null;
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
  return new THREE.LineSegments(
    geometry,
    new THREE.ShaderMaterial({
      vertexShader: `void main() {
        gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
        gl_Position.z -= 0.0002 * gl_Position.w;
      }`,
      uniforms: { color: { value: color } },
      fragmentShader: `precision highp float; uniform vec3 color; void main() {
        if (mod(gl_FragCoord.x + gl_FragCoord.y, ${every}.0) > ${drawn}.0) discard;
        gl_FragColor = vec4(color, ${hidden ? "0.15" : "1.0"});
      }`,
      transparent: hidden,
      depthWrite: false,
      depthTest: !hidden,
    }),
  );
}

// A round grip of the same size from everywhere.
function dotAt(place, color) {
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.Float32BufferAttribute(place, 3));
  return new THREE.Points(
    geometry,
    new THREE.ShaderMaterial({
      uniforms: { color: { value: color } },
      vertexShader: `void main() {
        gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
        gl_Position.z -= 0.0004 * gl_Position.w;
        gl_PointSize = 13.0;
      }`,
      fragmentShader: `precision highp float; uniform vec3 color; void main() {
        float away = length(gl_PointCoord - 0.5);
        if (away > 0.5) discard;
        gl_FragColor = vec4(away > 0.32 ? color : vec3(0.98, 0.97, 0.95), 1.0);
      }`,
      depthWrite: false,
    }),
  );
}

// A number on paper that faces the viewer, of the same size from everywhere.
function numberAt([x, y, z], value) {
  const paper = document.createElement("canvas"),
    pen = paper.getContext("2d"),
    words = short(value);
  paper.height = 40;
  pen.font = "500 26px 'IBM Plex Sans', sans-serif";
  paper.width = Math.ceil(pen.measureText(words).width) + 16;
  pen.fillStyle = "rgba(251, 248, 242, 0.92)";
  pen.fillRect(0, 0, paper.width, paper.height);
  pen.font = "500 26px 'IBM Plex Sans', sans-serif";
  pen.fillStyle = `rgb(${INK.split(",").map((share) => Math.round(255 * share))})`;
  pen.fillText(words, 8, 29);
  const map = new THREE.CanvasTexture(paper);
  map.colorSpace = THREE.NoColorSpace;
  const sprite = new THREE.Sprite(new THREE.SpriteMaterial({ map, sizeAttenuation: false, depthWrite: false }));
  sprite.position.set(x, y, z);
  sprite.scale.set((HIGH * paper.width) / paper.height, HIGH, 1);
  sprite.center.set(0.5, -0.1);
  sprite.renderOrder = 3;
  return sprite;
}

// The view has `scenes.marks` and `scenes.over` besides what the camera needs.
export class Overlays extends CameraMoves {
  makePin() {
    const line = new THREE.BufferGeometry();
    line.setAttribute("position", new THREE.BufferAttribute(new Float32Array(6), 3));
    const group = new THREE.Group();
    const ray = new THREE.Line(line, new THREE.LineBasicMaterial({ color: ink("--verdigris"), depthTest: false }));
    const dot = new THREE.Mesh(
      new THREE.SphereGeometry(1, 16, 12),
      new THREE.MeshBasicMaterial({ color: 0xfbf8f2, depthTest: false }),
    );
    const ring = new THREE.Mesh(
      new THREE.SphereGeometry(1.7, 16, 12),
      new THREE.MeshBasicMaterial({ color: ink("--verdigris"), depthTest: false }),
    );
    group.add(ring, ray, dot);
    group.renderOrder = 5;
    group.visible = false;
    this.scenes.over.add(group);
    return { group, ray, dot, ring };
  }

  // Hatching over some triangles, and the view turned to them; `corners` are 9 numbers a triangle.
  showMarks(corners, place) {
    this.clearMarks();
    if (!corners.length) {
      this.draw();
      return;
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(corners, 3));
    // Once as it lies, once faintly through whatever hides it.
    const hatch = (strength, hidden) =>
      new THREE.ShaderMaterial({
        uniforms: { strength: { value: strength } },
        vertexShader: `void main() {
            gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
            gl_Position.z -= 0.00002 * gl_Position.w;
          }`,
        fragmentShader: HATCH,
        transparent: true,
        side: THREE.DoubleSide,
        depthWrite: false,
        depthTest: !hidden,
      });
    this.marks = [
      new THREE.Mesh(geometry, hatch(1, false)),
      new THREE.Mesh(geometry, hatch(0.5, true)),
      this.specks(corners),
    ];
    this.scenes.marks.add(...this.marks);
    if (place) this.turnTo(corners, place);
    this.draw();
  }

  // What is marked but smaller than some pixels, as dots that can be seen.
  specks(corners) {
    const count = corners.length / 9,
      middles = new Float32Array(3 * count),
      extents = new Float32Array(count);
    for (let t = 0; t < count; t++)
      for (let c = 0; c < 3; c++) {
        const three = [0, 3, 6].map((k) => corners[9 * t + k + c]);
        middles[3 * t + c] = (three[0] + three[1] + three[2]) / 3;
        extents[t] = Math.max(extents[t], Math.max(...three) - Math.min(...three));
      }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(middles, 3));
    geometry.setAttribute("extent", new THREE.BufferAttribute(extents, 1));
    return new THREE.Points(
      geometry,
      new THREE.ShaderMaterial({
        uniforms: { high: { value: this.canvas.height }, strength: { value: 1 } },
        vertexShader: `attribute float extent; uniform float high; void main() {
        gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
        gl_Position.z -= 0.00002 * gl_Position.w;
        gl_PointSize = extent * projectionMatrix[1][1] * high < ${2 * SPECK}.0 * gl_Position.w ? ${SPECK}.0 : 0.0;
        if (gl_PointSize == 0.0) gl_Position.z = 2.0 * gl_Position.w; }`,
        fragmentShader: HATCH,
        transparent: true,
        depthWrite: false,
      }),
    );
  }

  // Lines on the low of how far the sculpt stands out of the cage, dashed where it lies below, each with its number;
  // and dotted around places whose rays fail.
  setContours(found) {
    for (const old of this.contours || []) {
      this.scenes.marks.remove(old);
      old.geometry?.dispose();
      old.material.map?.dispose();
      old.material.dispose();
    }
    this.contours = [];
    for (const name of found ? ["out", "below"] : []) {
      const below = name === "below";
      for (const hidden of [false, true])
        this.contours.push(inkLines(found[`${name}_lines`], below ? DASHED : WHOLE, hidden));
      const labels = found[`${name}_labels`];
      for (let n = 0; n < labels.length; n += 4)
        this.contours.push(numberAt(labels.subarray(n, n + 3), below ? -labels[n + 3] : labels[n + 3]));
    }
    if (found) this.contours.push(inkLines(found.rim_lines, DOTTED, false));
    this.contours = this.contours.filter(Boolean);
    if (this.contours.length) this.scenes.marks.add(...this.contours);
    this.draw();
  }

  // The rims of patches of one owner, as `Patches` has them, in the place of those that it showed before.
  setRims(owner, patches) {
    for (const old of this.rims.get(owner)?.drawn ?? []) {
      this.scenes.marks.remove(old);
      old.geometry.dispose();
      old.material.dispose();
    }
    const color = ink("--verdigris");
    const drawn = patches.flatMap(({ key, middle, rimLines, softLines }) =>
      [
        inkLines(rimLines, WHOLE, false, color),
        inkLines(rimLines, WHOLE, true, color),
        inkLines(softLines, DASHED, false, color),
        key && rimLines.length ? dotAt(middle, color) : null,
      ].filter(Boolean),
    );
    this.rims.set(owner, { patches, drawn });
    if (drawn.length) this.scenes.marks.add(...drawn);
    this.draw();
  }

  // The patch of an owner whose middle or rim lies under a pointer event, and which of both: {patch, part}, or null.
  patchAt(event, owner) {
    const r = this.canvas.getBoundingClientRect(),
      [px, py] = [event.clientX - r.left, event.clientY - r.top];
    const under = (place) => {
      const [x, y] = this.screenOf(place);
      return Math.hypot(x - px, y - py) < GRIP && !this.hides(place);
    };
    for (const patch of this.rims.get(owner)?.patches ?? []) {
      if (under(patch.middle)) return { patch, part: "middle" };
      const { rimLines } = patch;
      for (let n = 0; n < rimLines.length; n += 3)
        if (under(rimLines.subarray(n, n + 3))) return { patch, part: "rim" };
    }
    return null;
  }

  // Where a place is drawn, in CSS pixels of the canvas.
  screenOf(place) {
    const at = new THREE.Vector3(...place).project(this.camera),
      { clientWidth: w, clientHeight: h } = this.canvas;
    return [((at.x + 1) / 2) * (w / this.columns), ((1 - at.y) / 2) * h];
  }

  // Whether the low hides a place that lies on it.
  hides(place) {
    const to = new THREE.Vector3(...place),
      way = to.clone().sub(this.camera.position),
      away = way.length();
    this.raycaster.set(this.camera.position, way.divideScalar(away));
    const [hit] = this.raycaster.intersectObjects(this.scenes.low.children, false);
    return Boolean(hit) && hit.distance < away - this.box.getSize(to).length() / 200;
  }

  clearMarks() {
    if (!this.marks) return;
    this.scenes.marks.remove(...this.marks);
    for (const { geometry, material } of this.marks) {
      geometry.dispose();
      material.dispose();
    }
    this.marks = null;
  }

  setPin(probe) {
    this.pin.group.visible = Boolean(probe);
    if (probe) {
      const size = this.box.getSize(new THREE.Vector3()).length() / 260;
      for (const ball of [this.pin.dot, this.pin.ring]) {
        ball.position.set(...(probe.struck || probe.place));
        ball.scale.setScalar(size);
      }
      this.pin.ray.geometry.attributes.position.array.set([...probe.start, ...(probe.struck || probe.place)]);
      this.pin.ray.geometry.attributes.position.needsUpdate = true;
      this.pin.ray.geometry.computeBoundingSphere();
    }
    this.draw();
  }
}
