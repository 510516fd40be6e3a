// Turning the camera of the model view: to a place, around, and out to the whole.
import * as THREE from "three";

// The view has a `camera`, `controls`, the `box` around what it shows, and `draw()`.
export class CameraMoves {
  // Back to how it was before it was turned to a place.
  back() {
    if (!this.viewBefore) return;
    const [position, target] = this.viewBefore;
    this.viewBefore = null;
    this.glide(position, target);
    window.dispatchEvent(new CustomEvent("model-turned"));
  }

  // To a place; which way its surface looks is told by triangles (9 numbers each), or by the mean of its unit normals.
  turnTo(corners, [centre, radius, facing], nearest = 0.12) {
    const out = new THREE.Vector3(...(facing ?? [0, 0, 0])),
      a = new THREE.Vector3(),
      b = new THREE.Vector3(),
      c = new THREE.Vector3();
    let area = facing ? 1 : 0;
    for (let i = 0; i + 8 < corners.length; i += 9) {
      a.fromArray(corners, i);
      b.fromArray(corners, i + 3);
      c.fromArray(corners, i + 6);
      const face = b.sub(a).cross(c.sub(a));
      out.add(face);
      area += face.length();
    }
    const size = this.box.getSize(new THREE.Vector3()).length(),
      now = this.camera.position.clone().sub(this.controls.target);
    const round = out.length() <= 0.5 * area;
    // What looks all ways, such as a whole part, is looked at from outside, and not from below because the last place
    // was.
    if (round) {
      now.normalize();
      now.y = Math.max(now.y, 0.4);
    }
    const away = new THREE.Vector3(...centre).sub(this.box.getCenter(new THREE.Vector3())).divideScalar(size / 4);
    const way = round
      ? now.normalize().addScaledVector(away, 1.2).normalize()
      : out.normalize().addScaledVector(now.normalize(), 0.6).normalize();
    const steep = Math.min(Math.max(way.y, -0.5), 0.92); // from right below most pieces are open, or stand on something
    if (way.y !== steep) {
      const level = Math.sqrt((1 - steep * steep) / Math.max(1 - way.y * way.y, 1e-9));
      way.set(way.x * level, steep, way.z * level).normalize();
    }
    const target = new THREE.Vector3(...centre);
    const distance =
      Math.max(radius * 2.6, size * nearest) /
      Math.tan((this.camera.fov * Math.PI) / 360) /
      Math.min(this.camera.aspect, 1.25);
    this.camera.near = Math.min(size / 200, distance / 20);
    this.camera.updateProjectionMatrix();
    this.viewBefore ??= [this.camera.position.clone(), this.controls.target.clone()];
    window.dispatchEvent(new CustomEvent("model-turned"));
    this.glide(target.clone().addScaledVector(way, Math.min(distance, size * 3)), target);
  }

  // To a position that looks at a target, in a moment.
  glide(to, target) {
    const from = this.camera.position.clone(),
      fromTarget = this.controls.target.clone();
    const steps = matchMedia("(prefers-reduced-motion: reduce)").matches ? 1 : 5;
    let n = 0;
    const step = () => {
      n += 1;
      const s = n / steps,
        ease = s * s * (3 - 2 * s);
      this.camera.position.lerpVectors(from, to, ease);
      this.controls.target.lerpVectors(fromTarget, target, ease);
      this.controls.update();
      this.draw();
      if (n < steps) setTimeout(step, 30);
    };
    step();
  }

  fit() {
    if (this.box.isEmpty()) return;
    const centre = this.box.getCenter(new THREE.Vector3());
    const size = this.box.getSize(new THREE.Vector3()).length(),
      way = new THREE.Vector3(-0.42, 0.52, 0.86).normalize();
    const right = new THREE.Vector3(0, 1, 0).cross(way).normalize(),
      up = way.clone().cross(right),
      tall = Math.tan((this.camera.fov * Math.PI) / 360) * 0.92;
    let distance = size / 100; // as near as every corner of the box allows
    for (const x of [this.box.min.x, this.box.max.x])
      for (const y of [this.box.min.y, this.box.max.y])
        for (const z of [this.box.min.z, this.box.max.z]) {
          const corner = new THREE.Vector3(x, y, z).sub(centre);
          distance = Math.max(
            distance,
            corner.dot(way) +
              Math.max(Math.abs(corner.dot(up)), Math.abs(corner.dot(right)) / this.camera.aspect) / tall,
          );
        }
    this.camera.near = size / 200;
    this.camera.far = size * 40;
    this.camera.position.copy(centre).addScaledVector(way, distance);
    this.camera.updateProjectionMatrix();
    this.controls.target.copy(centre);
    this.controls.update();
    this.draw();
  }

  turn(dx, dy, zoom = 1) {
    const offset = this.camera.position.clone().sub(this.controls.target);
    const s = new THREE.Spherical().setFromVector3(offset);
    s.theta -= dx;
    s.phi = Math.min(Math.max(s.phi - dy, 0.05), Math.PI - 0.05);
    s.radius *= zoom;
    this.camera.position.setFromSpherical(s).add(this.controls.target);
    this.controls.update();
  }
}
