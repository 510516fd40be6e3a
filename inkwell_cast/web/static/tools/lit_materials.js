// A card of the material library, or a row of what is assigned, shows on the sculpt what it is on while it is pointed
// at.
export class LitMaterials {
  constructor(model, setShow) {
    this.model = model;
    this.setShow = setShow;
    this.card = null;
    this.before = "";
    for (const type of ["pointerover", "focusin"])
      document.addEventListener(type, (e) => this.at(e.target.closest?.("[data-lights]")));
    document.body.addEventListener("htmx:afterSettle", () => this.at(null));
  }

  at(card) {
    if (card === this.card) return;
    if (!this.card) this.before = this.model.show;
    this.card = card;
    const names = card?.dataset.lights.split("\n").filter(Boolean);
    if (names?.length) {
      if (this.model.show !== "sculpt") this.setShow("sculpt");
      this.model.lightUp(names);
      return;
    }
    this.model.lightUp(null);
    if (this.model.show === "sculpt" && this.before !== "sculpt") this.setShow(this.before);
  }
}
