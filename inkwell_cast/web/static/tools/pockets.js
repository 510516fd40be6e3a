// Pockets on the model: placed by a click, dragged by their middle, made larger or smaller by their rim.
import { onDrag } from "../common/drag.js";
import { $ } from "../common/requests.js";
import { Patches } from "./patches.js";

export class Pockets {
  // `on`: busy() and clicked(event) ask, begin() is told when placing begins, add(place) and change(key, values) are
  // sent to the server, tried(key, values) is a change so far, scale() is scene units in one of the unit that reach
  // is given in.
  constructor(base, model, on) {
    this.model = model;
    this.on = on;
    this.placing = false;
    this.held = null;
    this.all = [];
    this.patches = new Patches(base, model);
    const { canvas } = model;
    onDrag(canvas, {
      begin: (e) => this.take(e),
      move: (e) => this.drag(e),
      end: (cancelled) => this.leave(cancelled),
    });
    canvas.addEventListener("pointermove", (e) => {
      if (!e.buttons && this.all.length && !this.on.busy() && !this.placing)
        canvas.style.cursor = this.model.patchAt(e, this.patches) ? "grab" : "";
    });
    canvas.addEventListener("pointerup", (e) => this.place(e));
  }

  // The panel has changed: show its pockets, and wire its button.
  tend() {
    const list = $("pockets"),
      add = $("add-pocket"),
      told = list?.dataset.pockets ?? "[]";
    if (told !== this.told) {
      this.told = told;
      this.all = JSON.parse(told);
      this.shown();
    }
    if (!add) {
      this.placing = false;
      return;
    }
    add.setAttribute("aria-pressed", this.placing);
    if (add.dataset.tended) return;
    add.dataset.tended = "yes";
    add.onclick = () => {
      this.set(!this.placing);
      if (this.placing) this.on.begin();
    };
  }

  set(on) {
    this.placing = on;
    $("add-pocket")?.setAttribute("aria-pressed", on);
  }

  putDown() {
    this.set(false);
  }

  // The low itself may have changed: lay them anew.
  shown() {
    this.patches.show(this.all).catch(() => {}); // a piece whose low cannot be read says so elsewhere
  }

  take(e) {
    const found = !this.placing && !this.on.busy() && this.model.patchAt(e, this.patches);
    if (!found) return false;
    this.held = { ...found, values: null, laid: null };
    this.model.controls.enabled = false;
    return true;
  }

  drag(e) {
    const at = this.model.uvAt(e),
      { held } = this;
    // where one fails, the next is laid
    if (at) held.laid = Promise.allSettled([held.laid, this.moved(held, at.place)]);
  }

  async moved(held, place) {
    const { patch } = held;
    if (held.part === "middle") {
      held.values = { x: place[0], y: place[1], z: place[2] };
      this.on.tried(patch.key, { centre: place });
      await this.patches.show([{ ...patch, centre: place }, ...this.others(patch)]);
      return;
    }
    const laid = await this.patches.show([patch, ...this.others(patch)], place);
    if (!laid) return; // a newer one is
    const radius = Number((laid[0].radius / this.on.scale()).toPrecision(3));
    if (!(radius > 0)) return;
    held.values = { radius };
    this.on.tried(patch.key, { radius });
  }

  others(patch) {
    return this.all.filter((one) => one.key !== patch.key);
  }

  async leave(cancelled) {
    const { held } = this;
    this.held = null;
    this.model.controls.enabled = true;
    await held.laid;
    const { patch, values, part } = held;
    if (!values) return;
    if (!cancelled) this.on.change(patch.key, values);
    else {
      this.shown();
      this.on.tried(patch.key, part === "middle" ? { centre: patch.centre } : {});
    }
  }

  place(e) {
    if (!this.placing || !this.on.clicked(e)) return;
    const at = this.model.uvAt(e);
    if (!at) return;
    this.placing = false;
    this.on.add(at.place);
  }
}
