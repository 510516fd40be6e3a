// The parts of the piece, pair by pair: hidden, alone, or spread apart; for looking only.
import { $ } from "../common/requests.js";
import { base } from "../page/page.js";
import { ChosenParts } from "./chosen_parts.js";

function button(words, does, name) {
  const made = document.createElement("button");
  made.type = "button";
  made.textContent = words;
  made.dataset[does] = name;
  return made;
}

export class Parts {
  // `pointed()` is the part under the pointer; for `what` see ChosenParts.
  constructor(model, pointed, what) {
    Object.assign(this, { model, pointed, hidden: new Set() });
    this.chosen = new ChosenParts(this, model, what);
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
          box = document.createElement("input"),
          words = button(name, "choose", name),
          only = button("Only", "only", name);
        box.type = "checkbox";
        box.value = name;
        box.checked = !this.hidden.has(name);
        box.setAttribute("aria-label", `Show ${name}`);
        words.title = `${name}: click to choose, with Shift or Ctrl several; double click to rename`;
        words.dataset.rename = `${base}/pairs/rename?name=${encodeURIComponent(name)}`;
        words.dataset.field = "to";
        only.className = "link";
        only.setAttribute("aria-label", `Only ${name}`);
        row.append(box, words, only);
        return row;
      }),
    );
    this.chosen.tend();
  }

  only(...names) {
    this.hidden = new Set(this.model.partNames.filter((other) => !names.includes(other)));
    this.show();
  }
  hide(...names) {
    for (const name of names) this.hidden.add(name);
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
    this.model.setParts(this.hidden, Number($("spread").value), this.chosen.names);
  }
}
