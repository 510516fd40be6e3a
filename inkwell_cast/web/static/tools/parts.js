// The parts of the piece, pair by pair: hidden, alone, or spread apart; for looking only.
import { $ } from "../common/requests.js";

export class Parts {
  constructor(model, pointed) {
    Object.assign(this, { model, pointed, hidden: new Set() });
    $("spread").addEventListener("input", () => this.show());
    $("parts-all").onclick = () => this.all();
    $("parts-list").addEventListener("change", (e) => {
      this.hidden[e.target.checked ? "delete" : "add"](e.target.value);
      this.show();
    });
    $("parts-list").addEventListener("click", (e) => {
      if (e.target.dataset.only) this.only(e.target.dataset.only);
    });
  }

  // A new low: its pairs as a list; what was hidden stays so by name.
  tend() {
    const names = this.model.partNames;
    this.hidden = new Set([...this.hidden].filter((name) => names.includes(name)));
    $("parts").hidden = names.length < 2;
    $("parts-list").replaceChildren(
      ...names.map((name) => {
        const row = document.createElement("li"),
          label = document.createElement("label"),
          box = document.createElement("input"),
          only = document.createElement("button");
        box.type = "checkbox";
        box.value = name;
        box.checked = !this.hidden.has(name);
        const words = document.createElement("span");
        words.textContent = words.title = name;
        label.append(box, words);
        only.className = "link";
        only.textContent = "Only";
        only.dataset.only = name;
        only.setAttribute("aria-label", `Only ${name}`);
        row.append(label, only);
        return row;
      }),
    );
    this.show();
  }

  only(name) {
    this.hidden = new Set(this.model.partNames.filter((other) => other !== name));
    this.show();
  }
  hide(name) {
    this.hidden.add(name);
    this.show();
  }
  all() {
    this.hidden.clear();
    $("spread").value = 0;
    this.show();
  }

  // The part under the pointer, out of sight or alone; pressed again, all are back.
  key(alone) {
    const name = this.pointed();
    if (this.hidden.size && (alone || !name)) this.all();
    else if (name) {
      if (alone) this.only(name);
      else this.hide(name);
    }
  }

  show() {
    for (const box of $("parts-list").querySelectorAll("input")) box.checked = !this.hidden.has(box.value);
    $("parts-count").textContent = this.hidden.size ? ` · ${this.hidden.size} hidden` : "";
    this.model.setParts(this.hidden, Number($("spread").value));
  }
}
