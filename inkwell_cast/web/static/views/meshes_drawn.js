// The meshes that the model view draws: lows, sculpts and lines of the cage, their parts hidden or apart, and what of
// the sculpt is laid elsewhere or stands out.
import * as THREE from "three";
import { Overlays } from "./overlays.js";

const TRIED = 12; // places of a part, at most, that are looked at for whether it is seen

export class MeshesDrawn extends Overlays {
  geometry(arrays) {
    const geometry = new THREE.BufferGeometry();
    const set = (name, array, size, normalised = false) =>
      array && geometry.setAttribute(name, new THREE.BufferAttribute(array, size, normalised));
    set("position", arrays.position, 3);
    set("normal", arrays.normal, 3);
    set("uv", arrays.uv, 2);
    set("tangent", arrays.tangent, 4);
    set("tint", arrays.color, 3, true);
    if (arrays.index) geometry.setIndex(new THREE.BufferAttribute(arrays.index, 1));
    return geometry;
  }

  widen(header) {
    if (header.bounds)
      this.box.union(new THREE.Box3(new THREE.Vector3(...header.bounds[0]), new THREE.Vector3(...header.bounds[1])));
  }

  // What is drawn of a file's sculpts, by that file's number.
  addSculpt({ header, arrays }, id) {
    const mesh = new THREE.Mesh(this.geometry(arrays), this.material());
    mesh.userData = {
      keys: header.keys,
      objects: arrays.object,
      materials: arrays.material,
      named: header.materials,
      id,
      standIn: header.standIn,
    };
    this.scenes.sculpt.add(mesh);
    this.widen(header);
    if (header.standIn) this.standIn = true;
    return mesh;
  }

  // The lows are one message; triangles of each sheet are drawn with that sheet's picture.
  setLow({ header, arrays }) {
    for (const mesh of [...this.scenes.low.children]) {
      mesh.geometry.dispose();
      mesh.material.dispose();
      this.scenes.low.remove(mesh);
    }
    this.low = { header, arrays };
    if (!header.triangles) return;
    const shared = this.geometry(arrays);
    for (const number of [...header.sheets.keys(), 255]) {
      const corners = [];
      for (let t = 0; t < arrays.sheet.length; t++)
        if (arrays.sheet[t] === number) corners.push(3 * t, 3 * t + 1, 3 * t + 2);
      if (!corners.length) continue;
      const part = new THREE.BufferGeometry();
      for (const [name, attribute] of Object.entries(shared.attributes)) part.setAttribute(name, attribute);
      part.setIndex(corners);
      const mesh = new THREE.Mesh(part, this.material());
      const sheet = number === 255 ? null : header.sheets[number];
      mesh.userData.sheet = sheet?.name ?? null;
      if (sheet) mesh.userData.texels = [sheet.width, sheet.height];
      this.scenes.low.add(mesh);
    }
    this.usual = this.densityOf(header, arrays);
    this.widen(header);
    this.normalLines.geometry.dispose();
    this.normalLines.geometry = new THREE.BufferGeometry();
  }

  // Texels in a scene unit, over all that lies on sheets.
  densityOf(header, { position, uv, sheet }) {
    const a = new THREE.Vector3(),
      b = new THREE.Vector3(),
      c = new THREE.Vector3();
    let texels = 0,
      area = 0;
    for (let t = 0; t < sheet.length; t++) {
      const on = header.sheets[sheet[t]];
      if (!on) continue;
      a.fromArray(position, 9 * t);
      b.fromArray(position, 9 * t + 3).sub(a);
      c.fromArray(position, 9 * t + 6).sub(a);
      area += b.cross(c).length();
      const [u, v] = [uv[6 * t], uv[6 * t + 1]];
      texels +=
        Math.abs((uv[6 * t + 2] - u) * (uv[6 * t + 5] - v) - (uv[6 * t + 4] - u) * (uv[6 * t + 3] - v)) *
        on.width *
        on.height;
    }
    return area > 0 && texels > 0 ? Math.sqrt(texels / area) : 1;
  }

  // Which pair each vertex is of, in both scenes, and where the middle of each pair's low lies.
  nameParts() {
    const { header, arrays } = this.low,
      boxes = new Map(),
      point = new THREE.Vector3();
    this.partNames = [...new Set(header.pairs)].filter(Boolean);
    const number = (name) => this.partNames.indexOf(name);
    const ofObject = (header.pairs || []).map(number),
      part = new Float32Array(3 * header.triangles);
    for (let t = 0; t < header.triangles; t++) {
      const own = ofObject[arrays.object[t]];
      part.fill(own, 3 * t, 3 * t + 3);
      if (own < 0) continue;
      if (!boxes.has(own)) boxes.set(own, new THREE.Box3());
      for (let k = 0; k < 3; k++) boxes.get(own).expandByPoint(point.fromArray(arrays.position, 9 * t + 3 * k));
    }
    const low = new THREE.BufferAttribute(part, 1);
    for (const mesh of this.scenes.low.children) mesh.geometry.setAttribute("part", low);
    for (const { geometry, userData } of this.scenes.sculpt.children) {
      const own = userData.keys.map((key) => number(header.members[key] ?? ""));
      geometry.setAttribute(
        "part",
        new THREE.BufferAttribute(
          Float32Array.from(userData.objects, (object) => own[object]),
          1,
        ),
      );
    }
    this.partPlaces = this.partNames.map((_, n) =>
      boxes.get(n).getCenter(new THREE.Vector3()).sub(this.box.getCenter(new THREE.Vector3())),
    );
  }

  // Parts out of sight by name, how far the others stand apart, 0 to 1, and which are chosen, so tinted.
  setParts(hidden, spread, chosen) {
    const values = new Float32Array(4 * Math.max(this.partNames.length, 1));
    for (const [n, name] of this.partNames.entries())
      values.set(
        [
          ...this.partPlaces[n].clone().multiplyScalar(spread).toArray(),
          hidden.has(name) ? 0 : chosen.has(name) ? 2 : 1,
        ],
        4 * n,
      );
    this.partTexture?.dispose();
    this.partTexture = new THREE.DataTexture(
      values,
      Math.max(this.partNames.length, 1),
      1,
      THREE.RGBAFormat,
      THREE.FloatType,
    );
    this.partTexture.needsUpdate = true;
    this.spread = spread;
    this.hiddenParts = hidden;
    this.draw();
  }

  // Fine lines along the normals at corners; each normal of a vertex is drawn once.
  drawNormals() {
    const { position, normal } = this.low.arrays,
      length = this.box.getSize(new THREE.Vector3()).length() / 60,
      seen = new Set(),
      ends = [];
    for (let i = 0; i < position.length; i += 3) {
      const turned = [...normal.subarray(i, i + 3)].map((c) => c.toFixed(3));
      const key = `${position.subarray(i, i + 3)},${turned}`;
      if (seen.has(key)) continue;
      seen.add(key);
      for (let k = 0; k < 3; k++) ends.push(position[i + k]);
      for (let k = 0; k < 3; k++) ends.push(position[i + k] + normal[i + k] * length);
    }
    this.normalLines.geometry.setAttribute("position", new THREE.Float32BufferAttribute(ends, 3));
  }

  // Lines of the cage and a few of its rays, each 6 numbers a segment, as the server computed them.
  setCage({ lines, rays }) {
    for (const [drawn, ends] of [
      [this.cageLines, lines],
      [this.rayLines, rays],
    ]) {
      drawn.geometry.dispose();
      drawn.geometry = new THREE.BufferGeometry();
      drawn.geometry.setAttribute("position", new THREE.BufferAttribute(ends, 3));
    }
    const starts = new Float32Array(rays.length / 2);
    for (let i = 0; i < rays.length / 6; i++) starts.set(rays.subarray(6 * i, 6 * i + 3), 3 * i);
    this.rayStarts.geometry.dispose();
    this.rayStarts.geometry = new THREE.BufferGeometry();
    this.rayStarts.geometry.setAttribute("position", new THREE.BufferAttribute(starts, 3));
    this.draw();
  }

  // The sculpt laid elsewhere for a look: a matrix (4, 4) row by row, null for where it lies.
  setMoved(matrix) {
    const { sculpt } = this.scenes,
      wanted = new THREE.Matrix4();
    if (matrix) wanted.set(...matrix);
    if (sculpt.matrix.equals(wanted)) return;
    sculpt.matrixAutoUpdate = false;
    sculpt.matrix.copy(wanted);
    sculpt.matrixWorldNeedsUpdate = true;
    this.draw();
  }

  // What bears one of some names, an object or a material of the sculpt, stands out; null for all alike.
  lightUp(names) {
    const wanted = new Set(names || []);
    for (const { geometry, userData, material } of this.scenes.sculpt.children) {
      material.uniforms.lighting.value = Boolean(names);
      if (!names) continue;
      const objects = userData.keys.map((key) => wanted.has(key.slice(key.lastIndexOf("/") + 1))),
        materials = userData.named.map((name) => wanted.has(name));
      geometry.setAttribute(
        "lifted",
        new THREE.BufferAttribute(
          Float32Array.from(userData.objects, (own, n) => (objects[own] || materials[userData.materials[n]] ? 1 : 0)),
          1,
        ),
      );
    }
    this.draw();
  }

  // The parts of which something is seen where `inside(place)` holds, a place in pixels of the view.
  partsWithin(inside) {
    const { header, arrays } = this.low,
      { position: p } = arrays,
      found = new Map(this.partNames.map((name) => [name, []]));
    for (let t = 0; t < header.triangles; t++) {
      const name = this.partOf(t),
        apart = this.partPlaces[this.partNames.indexOf(name)];
      if (!apart || this.hiddenParts.has(name)) continue;
      const middle = [0, 1, 2].map((k) => (p[9 * t + k] + p[9 * t + 3 + k] + p[9 * t + 6 + k]) / 3);
      const place = this.screenOf(middle.map((v, k) => v + this.spread * apart.getComponent(k)));
      if (inside(place)) found.get(name).push(place);
    }
    const { left, top } = this.canvas.getBoundingClientRect();
    const seen = ([x, y], name) => {
      const at = this.uvAt({ clientX: left + x, clientY: top + y });
      return at && this.partOf(at.triangle) === name;
    };
    const tried = (places) => places.filter((_, n) => n % Math.ceil(places.length / TRIED) === 0);
    return this.partNames.filter((name) => tried(found.get(name)).some((place) => seen(place, name)));
  }

  partOf(triangle) {
    return this.low.header.pairs?.[this.low.arrays.object[triangle]];
  }
}
