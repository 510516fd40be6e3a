// The Section in the drawer: asks the server for the slice at the pointer, keeps it where it is pinned, lights rays.
import { onDrag } from "../common/drag.js";
import { $, request } from "../common/requests.js";
import { parseMesh } from "../views/mesh_message.js";
import { SectionView } from "../views/section.js";

// The slice at a place of the low, { triangle, place }, as the server cuts it; null where there is none.
export async function sliceAt(base, model, { triangle, place: [x, y, z] }, how) {
  const view = model.camera.position.clone().sub(model.controls.target).negate().toArray().join(","),
    response = await request(`${base}/section?${new URLSearchParams({ triangle, x, y, z, view, ...how })}`);
  return response.status === 200 ? parseMesh(await response.arrayBuffer()) : null;
}

export class SectionTool {
  // onRay(triangle, uv, {start, place, struck}) hears which ray the pointer is at.
  constructor(base, model, toast, onRay) {
    this.base = base;
    this.model = model;
    this.toast = toast;
    this.onRay = onRay;
    this.drawing = new SectionView($("section"), $("section-words"));
    this.place = this.next = null;
    this.cutting = this.pinned = false;
    const again = () => {
      if (this.place) this.at(this.place, true);
    };
    for (const id of ["section-turn", "section-zoom"]) $(id).addEventListener("input", again);
    for (const radio of document.querySelectorAll("[name=section-along]")) radio.addEventListener("change", again);
    model.controls.addEventListener("end", () => {
      if (this.along === "view") again();
    });
    new ResizeObserver(() => this.drawing.draw()).observe($("section"));
    const light = (e) => this.light(this.drawing.nearest(e));
    $("section").addEventListener("pointermove", light);
    onDrag($("section"), {
      begin: () => true,
      move: light,
      end: (_cancelled, e) => {
        if (e.pointerType === "touch") this.light(-1);
      },
    });
    $("section").addEventListener("pointerleave", () => this.light(-1));
    $("section").addEventListener("keydown", (e) => {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
      if (by) {
        this.light(this.drawing.step(by));
        e.preventDefault();
      }
    });
  }

  get shown() {
    return !$("section-leaf").hidden;
  }

  get along() {
    return document.querySelector("[name=section-along]:checked").value;
  }

  open() {
    this.drawing.draw();
    if (this.place) this.at(this.place, true);
  }

  light(n) {
    if (n === this.drawing.lit) return;
    this.drawing.light(n);
    const ray = this.drawing.ray(n);
    if (ray)
      this.onRay(ray.triangle, ray.uv, {
        start: ray.places[0],
        place: ray.places[1],
        struck: ray.struck ? ray.places[2] : null,
      });
  }

  // A place of the low, { triangle, place }; a click on the model pins the slice there, the next one lets go.
  at(place, forced = false) {
    if (!this.shown || (this.pinned && !forced)) return;
    this.place = this.next = place;
    if (!this.cutting) this.cut();
  }

  pin(place) {
    if (!this.shown) return;
    this.pinned = place ? !this.pinned : false;
    $("section").classList.toggle("pinned", this.pinned);
    if (place) this.at(place, true);
  }

  async cut() {
    this.cutting = true;
    while (this.next) {
      const place = this.next,
        how = { turned: $("section-turn").value, zoom: 2 ** $("section-zoom").value, along: this.along };
      this.next = null;
      try {
        const found = await sliceAt(this.base, this.model, place, how);
        if (found) this.drawing.show(found);
        else $("section-words").textContent = "No slice here: the low has no partner, or the engine is busy.";
      } catch (error) {
        this.toast(error.message);
      }
    }
    this.cutting = false;
  }
}
