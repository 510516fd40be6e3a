// Mends at a place that is clicked on the model: filled in, or taken from other rays or another bake.
import { $ } from "../common/requests.js";
import { Patches } from "./patches.js";

const SOFT = 0.4; // of a patch by hand, the share of its radius over which it fades

export class MendByHand {
  // `clicked(event)` tells clicks from drags, `begin()` hears of the tool being taken up, `send(values)` of a place.
  constructor(base, model, { clicked, begin, send }) {
    Object.assign(this, { model, clicked, begin, send, on: false, patches: new Patches(base, model) });
    const { canvas } = model;
    canvas.addEventListener("pointermove", (e) => {
      if (this.on && !e.buttons) this.follow(model.uvAt(e));
    });
    canvas.addEventListener("pointerup", (e) => {
      if (this.on && this.clicked(e)) this.place(model.uvAt(e));
    });
    canvas.addEventListener("keydown", (e) => {
      if (this.on && e.key === "Enter") this.place(this.middle());
    });
  }

  // The panel has changed: wire its form.
  tend() {
    const button = $("hand-on");
    if (!button) {
      if (this.on) this.set(false);
      return;
    }
    if (button.dataset.tended) return;
    button.dataset.tended = "yes";
    button.setAttribute("aria-pressed", this.on);
    button.onclick = () => this.set(!this.on);
    const form = $("hand");
    form.addEventListener("submit", (e) => e.preventDefault());
    const ask = () => {
      $("hand-reach").hidden = form.elements.kind.value !== "pocket";
    };
    form.addEventListener("change", () => {
      this.last = this.given();
      ask();
    });
    if (this.last) for (const [name, value] of Object.entries(this.last)) form.elements[name].value = value;
    if (!form.elements.kind.value) form.elements.kind.selectedIndex = 0; // what it named is gone
    ask();
  }

  given() {
    return Object.fromEntries(new FormData($("hand")));
  }

  set(on) {
    this.on = on;
    $("hand-on")?.setAttribute("aria-pressed", on);
    this.model.canvas.style.cursor = on ? "crosshair" : "";
    if (on) this.begin();
    else this.patches.clear();
  }

  putDown() {
    if (this.on) this.set(false);
  }

  middle() {
    const r = this.model.canvas.getBoundingClientRect();
    return this.model.uvAt({ clientX: r.left + r.width / 2, clientY: r.top + r.height / 2 });
  }

  follow(at) {
    const radius = $("hand")?.elements.radius.value;
    const patch = at && { centre: at.place, radius, rim: this.given().kind.startsWith("edges") ? 0 : SOFT };
    this.patches.show(patch ? [patch] : []).catch(() => {}); // a size that is none is told where it stands
  }

  place(at) {
    if (!at) return;
    const [x, y, z] = at.place,
      given = (this.last = this.given());
    this.set(false);
    this.send({ ...given, x, y, z });
  }
}
