// How far it is from one place of the low to the pointer, straight and along the surface, as the server measures it.
import { $ } from "../common/requests.js";
import { Patches } from "./patches.js";

export class Tape {
  constructor(base, model) {
    Object.assign(this, { model, from: null, patches: new Patches(base, model) });
    model.canvas.addEventListener("pointermove", (e) => {
      if (this.from && !e.buttons) this.follow(model.uvAt(e));
    });
    document.addEventListener("keydown", (e) => {
      if (e.key === "Escape") this.end();
    });
  }

  begin(at) {
    this.from = at.place;
    this.model.canvas.style.cursor = "crosshair";
    this.say("Point at another place of the low; Esc ends.");
  }

  follow(at) {
    if (!at) return;
    const shown = this.patches.show([{ centre: this.from, radius: 1, rim: 0 }], at.place);
    shown
      .then((laid) => {
        if (laid && this.from) this.say(laid.words);
      })
      .catch((error) => this.say(error.message));
  }

  say(words) {
    $("measured").hidden = !words;
    $("measured").textContent = words;
  }

  end() {
    if (!this.from) return;
    this.from = null;
    this.model.canvas.style.cursor = "";
    this.patches.clear();
    this.say("");
  }
}
