// The model view: draws meshes and the maps on them. It computes nothing of the bake; it draws when something changed.
import * as THREE from "three";
import { OrbitControls } from "../vendor/OrbitControls.js";
import { MeshesDrawn } from "./meshes_drawn.js";
import { ink } from "./overlays.js";
import { FRAGMENT, VERTEX } from "./shaders.js";

const LIGHT = new Set(["emission", "glow", "light"]); // black is dark there, not beyond a range
const KINDS = { normal: 1, bent: 1, rounded: 1, normal_object: 2 };

export class ModelView extends MeshesDrawn {
  constructor(element, { antialias = true } = {}) {
    super();
    this.element = element;
    this.canvas = element.querySelector("canvas");
    this.renderer = new THREE.WebGLRenderer({
      canvas: this.canvas,
      antialias,
      alpha: true,
      preserveDrawingBuffer: false,
    });
    this.canvas.addEventListener("webglcontextrestored", () => this.draw()); // a graphics driver may drop all it holds
    this.renderer.outputColorSpace = THREE.LinearSRGBColorSpace;
    this.renderer.autoClear = false;
    this.camera = new THREE.PerspectiveCamera(28, 1, 0.01, 1000);
    this.controls = new OrbitControls(this.camera, this.canvas);
    this.controls.enableDamping = false;
    this.controls.addEventListener("change", () => this.draw());
    this.scenes = {
      low: new THREE.Scene(),
      sculpt: new THREE.Scene(),
      marks: new THREE.Scene(),
      over: new THREE.Scene(),
    };
    this.show = "low";
    this.mapsOn = true;
    this.cageOn = false;
    this.lit = true;
    this.wipe = 0.5;
    this.light = 0;
    this.other = false;
    this.flipped = false;
    this.beside = false; // what is wiped stands side by side
    this.others = {};
    this.otherFacts = null;
    this.shades = {};
    this.rake = new THREE.Vector3(-0.9, 0.4, 0);
    this.roughness = 0.3;
    this.metalness = 0;
    this.squares = false;
    this.difference = false; // how surfaces look
    this.low = null;
    this.box = new THREE.Box3();
    this.standIn = false;
    this.normalsOn = false;
    this.marks = null;
    this.contours = null;
    this.rims = new Map();
    this.textures = {};
    this.blank = new THREE.DataTexture(new Uint8Array([128, 128, 255, 255]), 1, 1);
    this.blank.needsUpdate = true;
    this.facts = null;
    this.mapKey = null;
    this.partNames = [];
    this.partTexture = null;
    this.spread = 0;
    this.hiddenParts = new Set();
    this.cageLines = this.lines(ink("--verdigris"));
    this.normalLines = this.lines(0x4462b8);
    this.rayLines = this.lines(ink("--verdigris"));
    this.raysOn = false;
    this.rayStarts = new THREE.Points(
      new THREE.BufferGeometry(),
      new THREE.PointsMaterial({ color: ink("--verdigris"), size: 3, sizeAttenuation: false }),
    );
    this.scenes.over.add(this.rayStarts);
    this.pin = this.makePin();
    this.raycaster = new THREE.Raycaster();
    new ResizeObserver(() => this.resize()).observe(element);
  }

  material() {
    return new THREE.ShaderMaterial({
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      side: THREE.FrontSide,
      uniforms: {
        map: { value: this.blank },
        other_map: { value: this.blank },
        rake: { value: new THREE.Vector3() },
        roughness: { value: 0.4 },
        metalness: { value: 0 },
        texels: { value: new THREE.Vector2(1, 1) },
        usual: { value: 1 },
        shade_map: { value: this.blank },
        shaded: { value: false },
        lighting: { value: false },
        clear: { value: 1 },
        kind: { value: 0 },
        green: { value: 1 },
        lit: { value: true },
        clipped: { value: 0 },
        perVertex: { value: false },
        unit: { value: false },
        hand: { value: 1 },
        cameraTurn: { value: new THREE.Matrix3() },
        light: { value: 0 },
        parts: { value: this.partTexture },
        partCount: { value: 0 },
        ball: { value: new THREE.Vector4(0, 0, 0, 0) },
      },
    });
  }

  clear() {
    this.clearMarks();
    for (const name of ["low", "sculpt"]) {
      for (const mesh of [...this.scenes[name].children]) {
        mesh.geometry.dispose();
        mesh.material.dispose();
        this.scenes[name].remove(mesh);
      }
    }
    this.low = null;
    this.box.makeEmpty();
    this.standIn = false;
    for (const lines of [this.cageLines, this.normalLines, this.rayLines, this.rayStarts]) {
      lines.geometry.dispose();
      lines.geometry = new THREE.BufferGeometry();
    }
  }

  // The longest side of a picture that can be drawn.
  get largest() {
    return Math.min(this.renderer.capabilities.maxTextureSize, 8192);
  }

  // Where the brush is, as `uvAt` gives it, and the places where it has been; null takes it away.
  setBrush(at, radius, points = []) {
    if (!this.brush) {
      const ring = new THREE.EllipseCurve(0, 0, 1, 1).getPoints(96);
      this.brush = new THREE.LineLoop(
        new THREE.BufferGeometry().setFromPoints(ring),
        new THREE.LineBasicMaterial({ color: ink("--verdigris"), depthTest: false }),
      );
      this.trail = new THREE.Line(
        new THREE.BufferGeometry(),
        new THREE.LineBasicMaterial({ color: ink("--verdigris"), depthTest: false }),
      );
      this.scenes.over.add(this.brush, this.trail);
    }
    this.brush.visible = Boolean(at);
    this.trail.visible = points.length > 1;
    if (at) {
      this.brush.position.set(...at.place);
      this.brush.quaternion.setFromUnitVectors(new THREE.Vector3(0, 0, 1), new THREE.Vector3(...at.normal));
      this.brush.scale.setScalar(radius);
    }
    if (points.length > 1) {
      this.trail.geometry.dispose();
      this.trail.geometry = new THREE.BufferGeometry().setFromPoints(points.map((p) => new THREE.Vector3(...p)));
    }
    this.draw();
  }

  lines(color) {
    const lines = new THREE.LineSegments(
      new THREE.BufferGeometry(),
      new THREE.LineBasicMaterial({ color, transparent: true, opacity: 0.8 }),
    );
    this.scenes.over.add(lines);
    return lines;
  }

  // The pictures of a map by sheet name, each a bitmap that was turned over when it was made; null for none.
  setMap(bitmaps, facts, key) {
    this.facts = facts;
    this.mapKey = key;
    this.textures = this.texturesOf(bitmaps, this.textures);
    this.draw();
  }

  // The same map of another bake, to wipe against.
  setOther(bitmaps, facts) {
    this.otherFacts = facts;
    this.others = this.texturesOf(bitmaps, this.others);
    this.draw();
  }

  // The occlusion that darkens what the normals show; null for none.
  setShade(bitmaps) {
    this.shades = this.texturesOf(bitmaps, this.shades);
    this.draw();
  }

  texturesOf(bitmaps, old) {
    for (const texture of Object.values(old)) texture.dispose();
    const made = {};
    for (const [sheet, bitmap] of Object.entries(bitmaps || {})) {
      const texture = new THREE.Texture(bitmap);
      texture.flipY = false;
      texture.wrapS = texture.wrapT = THREE.RepeatWrapping;
      texture.colorSpace = THREE.NoColorSpace;
      texture.generateMipmaps = true;
      texture.minFilter = THREE.LinearMipmapLinearFilter;
      texture.anisotropy = 4;
      texture.needsUpdate = true;
      made[sheet] = texture;
    }
    return made;
  }

  // Every mesh in what it wears: `textures` of a bake and what must be known of their basis.
  dress(textures, facts) {
    const turn = new THREE.Matrix3().setFromMatrix4(this.camera.matrixWorld);
    for (const [name, scene] of Object.entries({ low: this.scenes.low, sculpt: this.scenes.sculpt })) {
      for (const { material, userData } of scene.children) {
        const u = material.uniforms,
          texture = name === "low" ? textures[userData.sheet] : null;
        u.lit.value = this.lit;
        u.cameraTurn.value = turn;
        u.light.value = this.light;
        u.parts.value = this.partTexture || this.blank;
        u.partCount.value = this.partTexture ? this.partNames.length : 0;
        u.rake.value = this.rake;
        u.roughness.value = this.roughness;
        u.metalness.value = this.metalness;
        u.kind.value = this.mapsOn && texture ? KINDS[this.mapKey] || 3 : 0;
        if (this.squares && userData.texels) {
          u.kind.value = 5;
          u.texels.value.set(...userData.texels);
          u.usual.value = this.usual;
        } else if (this.difference && texture && this.others[userData.sheet]) {
          u.kind.value = 4;
          u.other_map.value = this.others[userData.sheet];
        }
        u.clipped.value =
          u.kind.value === 3 && facts?.clipped.includes(this.mapKey) ? (LIGHT.has(this.mapKey) ? 2 : 1) : 0;
        u.map.value = texture || this.blank;
        const shade = this.mapsOn && textures === this.textures && name === "low" && this.shades[userData.sheet];
        u.shaded.value = Boolean(shade);
        u.shade_map.value = shade || this.blank;
        const basis = facts?.basis || {};
        u.green.value = basis.green === "down" ? -1 : 1;
        u.hand.value = basis.hand === "left" ? -1 : 1;
        u.perVertex.value = basis.bitangent === "vertex";
        u.unit.value = basis.lengths === "unit";
      }
    }
  }

  // The low's triangle, place and normal under a pointer event, and its UVs there if it has them; or null.
  uvAt(event) {
    const r = this.canvas.getBoundingClientRect(),
      width = r.width / this.columns;
    const at = new THREE.Vector2(
      (((event.clientX - r.left) % width) / width) * 2 - 1,
      1 - ((event.clientY - r.top) / r.height) * 2,
    );
    this.raycaster.setFromCamera(at, this.camera);
    const triangleOf = (hit) => hit.object.geometry.index.getX(3 * hit.faceIndex) / 3;
    const strike = (seen) =>
      this.raycaster.intersectObjects(this.scenes.low.children, false).find((h) => seen(this.partOf(triangleOf(h))));
    const shown = (name) => !this.hiddenParts.has(name);
    const hit = this.spread ? this.strikeApart(strike, shown) : strike(shown);
    if (!hit) return null;
    const triangle = triangleOf(hit),
      place = hit.point.toArray();
    return { triangle, place, normal: hit.face.normal.toArray(), uv: hit.uv ? [hit.uv.x, hit.uv.y] : null };
  }

  // The nearest hit with the parts apart: what is drawn is not where it is, so the ray is moved back for every part.
  strikeApart(strike, shown) {
    const { ray } = this.raycaster,
      from = ray.origin.clone();
    const hits = this.partNames.map((name, n) => {
      if (!shown(name)) return null;
      ray.origin.copy(from).addScaledVector(this.partPlaces[n], -this.spread);
      return strike((own) => own === name);
    });
    ray.origin.copy(from);
    return hits.filter(Boolean).sort((a, b) => a.distance - b.distance)[0];
  }

  resize() {
    const { clientWidth: w, clientHeight: h } = this.element;
    if (!w || !h) return;
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2));
    this.renderer.setSize(w, h, false);
    this.setAspect(w / h);
    this.draw();
  }

  // Two pictures side by side, or one.
  get columns() {
    const bakes = this.show === "low" && this.other && !this.difference && !this.flipped;
    return this.beside && (bakes || this.show === "wipe") ? 2 : 1;
  }
  // Of the whole view; a half of it shows as much from side to side as the whole did.
  setAspect(whole) {
    const aspect = whole / this.columns,
      zoom = this.columns === 1 ? 1 : Math.min(Math.max(aspect, 0.5), 1);
    if (this.camera.aspect === aspect && this.camera.zoom === zoom) return;
    this.camera.aspect = aspect;
    this.camera.zoom = zoom;
    this.camera.updateProjectionMatrix();
  }

  // What the view shows as a PNG, `times` as large; with a `turn` about the vertical through what it looks at, radians.
  async picture(times, turn = 0) {
    const { clientWidth: w, clientHeight: h } = this.element,
      most = this.renderer.capabilities.maxTextureSize / Math.max(w, h);
    const { position, quaternion } = this.camera,
      kept = [position.clone(), quaternion.clone()];
    if (turn) {
      position.sub(this.controls.target).applyAxisAngle(this.camera.up, turn).add(this.controls.target);
      this.camera.lookAt(this.controls.target);
    }
    this.renderer.setPixelRatio(Math.min(times, most));
    this.renderer.setSize(w, h, false);
    this.drawNow();
    const blob = await new Promise((resolve) => {
      this.canvas.toBlob(resolve, "image/png");
    });
    position.copy(kept[0]);
    quaternion.copy(kept[1]);
    this.resize();
    this.drawNow();
    return blob;
  }

  draw() {
    if (this.waiting) return;
    this.waiting = requestAnimationFrame(() => {
      this.waiting = 0;
      this.drawNow();
    });
  }

  drawNow() {
    const { clientWidth: w, clientHeight: h } = this.element;
    if (!w || !h) return;
    this.dress(this.textures, this.facts);
    const r = this.renderer,
      columns = this.columns;
    this.setAspect(w / h);
    r.setScissorTest(false);
    r.setClearColor(0, 0);
    r.clear();
    const pass = (scene, x0, x1) => {
      r.setScissor(x0 * w, 0, (x1 - x0) * w, h);
      r.setScissorTest(true);
      for (let n = Math.floor(x0 * columns); n < x1 * columns; n++) {
        r.setViewport((n * w) / columns, 0, w / columns, h);
        r.render(scene, this.camera);
      }
    };
    const wiped = columns === 2 ? 0.5 : this.wipe;
    if (this.show === "low" && this.other && !this.difference) {
      const at = this.flipped ? 0 : wiped;
      pass(this.scenes.low, 0, at);
      this.dress(this.others, this.otherFacts);
      pass(this.scenes.low, at, 1);
    } else if (this.show === "low") pass(this.scenes.low, 0, 1);
    if (this.show === "sculpt") pass(this.scenes.sculpt, 0, 1);
    if (this.show === "both") {
      // the sculpt through the low
      pass(this.scenes.sculpt, 0, 1);
      const see = (clear) => {
        for (const { material } of this.scenes.low.children) {
          material.uniforms.clear.value = clear ? 0.55 : 1;
          material.transparent = clear;
        }
      };
      r.clearDepth();
      see(true);
      pass(this.scenes.low, 0, 1);
      see(false);
    }
    if (this.show === "wipe") {
      pass(this.scenes.low, 0, wiped);
      pass(this.scenes.sculpt, wiped, 1);
    }
    if (this.normalsOn && this.low && !this.normalLines.geometry.attributes.position) this.drawNormals();
    this.cageLines.visible = this.cageOn;
    this.rayLines.visible = this.rayStarts.visible = this.raysOn;
    this.normalLines.visible = this.normalsOn && this.show !== "sculpt";
    pass(this.scenes.marks, 0, 1);
    pass(this.scenes.over, 0, 1);
    this.drawn = (this.drawn || 0) + 1;
    window.dispatchEvent(new CustomEvent("model-drawn"));
  }
}
