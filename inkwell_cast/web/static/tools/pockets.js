// Pockets on the model: placed by a click, dragged by their middle, with Shift made larger or smaller.
import { onDrag } from "../common/drag.js";
import { $ } from "../common/requests.js";

export class Pockets {
  // `on`: busy() and clicked(event) ask, begin() is told when placing begins, add(place) and change(key, values) are
  // sent to the server, tried(key, values) is a change so far, scale() is scene units in one of the unit that reach
  // is given in.
  constructor(model, on) {
    this.model = model;
    this.on = on;
    this.placing = false;
    this.held = null;
    const { canvas } = model;
    onDrag(canvas, {
      begin: (e) => this.take(e),
      move: (e) => this.drag(e),
      end: (cancelled) => this.leave(cancelled),
    });
    canvas.addEventListener("pointerup", (e) => this.place(e));
  }

  // The panel has changed: show its pockets, and wire its button.
  tend() {
    const list = $("pockets"),
      add = $("add-pocket");
    this.model.setPockets(list ? JSON.parse(list.dataset.pockets) : []);
    if (!add) {
      this.placing = false;
      return;
    }
    add.setAttribute("aria-pressed", this.placing);
    if (add.dataset.tended) return;
    add.dataset.tended = "yes";
    add.onclick = () => {
      this.placing = !this.placing;
      add.setAttribute("aria-pressed", this.placing);
      if (this.placing) this.on.begin();
    };
  }

  take(e) {
    const ball = !this.placing && !this.on.busy() && this.model.pocketAt(e);
    if (!ball) return false;
    this.held = { ball, shift: e.shiftKey, x: e.clientX, from: ball.position.toArray() };
    this.model.controls.enabled = false;
    return true;
  }

  drag(e) {
    const { held } = this;
    const { key, radius } = held.ball.userData;
    if (held.shift) {
      held.scale = Math.max(0.05, 1 + (e.clientX - held.x) / 120);
      held.ball.scale.setScalar(held.scale);
      this.on.tried(key, { radius: (radius * held.scale) / this.on.scale() });
    } else {
      const at = this.model.uvAt(e);
      if (at) {
        held.at = at.place;
        held.ball.position.set(...at.place);
        this.on.tried(key, { centre: at.place });
      }
    }
    this.model.draw();
  }

  leave(cancelled) {
    const { ball, at, scale, from } = this.held,
      { key, radius } = ball.userData;
    this.held = null;
    this.model.controls.enabled = true;
    if (cancelled) {
      ball.scale.setScalar(1);
      ball.position.set(...from);
      this.model.draw();
      if (at || scale) this.on.tried(key, { centre: from });
      return;
    }
    if (scale) this.on.change(key, { radius: Number(((radius * scale) / this.on.scale()).toPrecision(3)) });
    else if (at) this.on.change(key, { x: at[0], y: at[1], z: at[2] });
  }

  place(e) {
    if (!this.placing || !this.on.clicked(e)) return;
    const at = this.model.uvAt(e);
    if (!at) return;
    this.placing = false;
    this.on.add(at.place);
  }
}
