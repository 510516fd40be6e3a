// A sculpt that is drawn through a stand-in, cut open where the view looks closely: there the sculpt itself is put in.
import * as THREE from "three";

const WAIT = 300; // milliseconds for which the view stands still before anything is asked for
const CLOSE = 1 / 5; // of the diagonal: a view that shows more is served by the stand-in
const ROOM = 1.4; // of what is in view: as much is asked for, so that the view can be moved a little

export class NearSculpt {
  // `ask(id, centre, radius)` gives the message for a file; `tell(words)` says what is in view.
  constructor(model, ask, tell) {
    Object.assign(this, { model, ask, tell, shown: null, refused: null, asking: false, timer: 0 });
    window.addEventListener("model-drawn", () => {
      clearTimeout(this.timer);
      this.timer = setTimeout(() => this.tend(), WAIT);
    });
  }

  get standIns() {
    return this.model.scenes.sculpt.children.filter(({ userData }) => userData.standIn);
  }

  // The ball around what is in view; null where the stand-in is enough.
  wanted() {
    const { model } = this,
      { camera, box, canvas } = model;
    if (
      !model.standIn ||
      model.show === "low" ||
      model.spread ||
      !model.low ||
      !model.scenes.sculpt.matrix.equals(new THREE.Matrix4())
    )
      return null;
    const r = canvas.getBoundingClientRect(),
      seen = model.uvAt({ clientX: r.left + r.width / 2, clientY: r.top + r.height / 2 });
    const centre = seen ? new THREE.Vector3(...seen.place) : model.controls.target.clone();
    const radius =
      camera.position.distanceTo(centre) * Math.tan((camera.fov * Math.PI) / 360) * Math.max(camera.aspect, 1) * ROOM;
    return radius < CLOSE * box.getSize(new THREE.Vector3()).length() ? { centre, radius } : null;
  }

  // Whether what is there serves a ball: it holds what is in view, and cannot be finer or not by much.
  serves(there, ball) {
    const inside = there.centre.distanceTo(ball.centre) + ball.radius / ROOM <= there.radius;
    return inside && (there.complete || ball.radius > 0.5 * there.radius);
  }

  async tend() {
    const ball = this.wanted();
    if (this.asking) return;
    if (this.shown?.meshes.some((mesh) => !mesh.parent)) this.shown = null; // the meshes were loaded anew
    if (!ball) {
      this.refused = null;
      this.close();
      return;
    }
    if (this.shown && this.serves(this.shown, ball)) return;
    if (
      this.refused &&
      ball.radius > 0.7 * this.refused.radius &&
      ball.centre.distanceTo(this.refused.centre) < this.refused.radius
    )
      return;
    this.asking = true;
    try {
      const of = this.standIns,
        found = await Promise.all(of.map(({ userData }) => this.ask(userData.id, ball.centre.toArray(), ball.radius)));
      if (of.every((mesh) => mesh.parent)) this.open(ball, of, found);
    } catch {
      this.refused = ball;
    } finally {
      // the stand-in stays; what is wrong with the meshes is told where they are listed
      this.asking = false;
    }
    this.model.draw();
  }

  open(ball, of, found) {
    const { centre, radius } = ball,
      { model } = this;
    if (!found.every((message) => message?.header.drawn)) {
      this.refused = ball;
      return;
    }
    this.close();
    const meshes = found.map((message) => model.addSculpt(message));
    for (const mesh of meshes) mesh.material.uniforms.ball.value.set(...centre, radius);
    for (const mesh of of) mesh.material.uniforms.ball.value.set(...centre, -radius);
    const complete = found.every(({ header }) => header.complete);
    this.shown = { ...ball, of, meshes, complete };
    model.nameParts();
    this.tell(
      complete ? "Here the sculpt is drawn with every triangle." : "Here the sculpt is drawn through a finer stand-in.",
    );
  }

  close() {
    if (!this.shown) return;
    for (const mesh of this.shown.meshes) {
      mesh.geometry.dispose();
      mesh.material.dispose();
      mesh.removeFromParent();
    }
    for (const mesh of this.shown.of) mesh.material.uniforms.ball.value.w = 0;
    this.shown = null;
    this.model.draw();
  }
}
