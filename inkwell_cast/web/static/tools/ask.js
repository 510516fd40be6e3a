// What is here: a card beside the pointer, by key or right click.
import { $, request } from "../common/requests.js";
import { SectionView } from "../views/section.js";
import { sliceAt } from "./section.js";

export class AskHere {
  // `texelOf(triangle, uv)` finds the texel; `act(what, at)` does what a button of the card says.
  constructor(base, model, { state, texelOf, clicked, toast, act }) {
    Object.assign(this, { base, model, state, texelOf, toast, act, pointer: null, card: $("asked") });
    model.canvas.addEventListener("pointermove", (e) => {
      this.pointer = e;
    });
    model.canvas.addEventListener("contextmenu", (e) => {
      e.preventDefault();
      if (clicked(e)) this.ask(e).catch((error) => toast(error.message));
    });
    this.card.addEventListener("click", (e) => this.pressed(e));
    document.addEventListener("keydown", (e) => {
      if (e.key === "Escape") this.close();
    });
  }

  byKey() {
    if (this.pointer) this.ask(this.pointer).catch((error) => this.toast(error.message));
  }

  async ask(event) {
    const at = this.model.uvAt(event),
      texel = at?.uv && this.state.facts && this.texelOf(at.triangle, at.uv);
    if (!texel) {
      this.toast(at ? "Nothing has been baked yet." : "Point at the low.");
      return;
    }
    this.at = at;
    const [x, y] = texel.at,
      query = `x=${x}&y=${y}&sheet=${encodeURIComponent(texel.sheet)}`;
    const words = await (await request(`${this.base}/bakes/${this.state.facts.id}/ask?${query}`)).text();
    this.card.innerHTML = words;
    this.card.hidden = false;
    this.place(event);
    htmx.process(this.card);
    this.card.querySelector("[data-close]").focus({ preventScroll: true });
    await this.section();
    await this.pictures();
  }

  async section() {
    const svg = this.card.querySelector(".asked-section"),
      drawing = new SectionView(svg, this.card.querySelector("[data-section-words]")),
      found = await sliceAt(this.base, this.model, this.at, { along: "view" });
    if (found) drawing.show(found);
    svg.classList.toggle("none", !found);
  }

  // One picture after the other: each gives up the one before it.
  async pictures() {
    for (const picture of [...this.card.querySelectorAll("img")]) {
      if (!picture.isConnected) return;
      const response = await fetch(picture.dataset.from);
      if (response.status === 200) picture.src = URL.createObjectURL(await response.blob());
      else picture.closest("figure").classList.add("none");
    }
  }

  place({ clientX, clientY }) {
    const { width, height } = this.card.getBoundingClientRect();
    this.card.style.left = `${Math.max(8, Math.min(clientX + 14, innerWidth - width - 8))}px`;
    this.card.style.top = `${Math.max(8, Math.min(clientY + 14, innerHeight - height - 8))}px`;
  }

  pressed(e) {
    const what = e.target.closest("[data-do]")?.dataset.do;
    if (what) this.act(what, this.at);
    if (what || e.target.closest("[data-close], [hx-post]")) this.close();
  }

  close() {
    this.card.hidden = true;
  }
}
