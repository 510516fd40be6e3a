// The reach rule of the step Cage: while a handle is dragged the server measures what the tried reach would hold.
import { $, request } from "../common/requests.js";
import { fetchMesh } from "../views/mesh_message.js";
import { ReachRule } from "./reach_slider.js";

const BETWEEN = 400; // milliseconds from one measuring to the next while a handle is dragged

export class Coverage {
  constructor(base, model, { toast, sayProgress, mark, turnTo, tryLive }) {
    Object.assign(this, { base, model, toast, sayProgress, mark, turnTo, tryLive });
    this.rule = null;
    this.trying = null;
    document.body.addEventListener("htmx:afterSettle", (e) => {
      this.tend();
      if (e.detail.target?.id === "coverage")
        this.show(`scope=${encodeURIComponent($("reach-rule").dataset.scope)}`).catch((error) => toast(error.message));
    });
    document.body.addEventListener("click", (e) => this.clicked(e).catch((error) => toast(error.message)));
    this.tend();
  }

  get scale() {
    return this.rule.scale;
  }

  tend() {
    const waiting = $("measuring");
    if (waiting && !waiting.dataset.tended) {
      waiting.dataset.tended = "yes";
      this.sayProgress(() => waiting);
    }
    const svg = $("reach-rule");
    if (!svg) {
      if (this.rule) {
        this.rule = null;
        this.model.setContours(null);
      }
      return;
    }
    if (svg.dataset.tended) return;
    svg.dataset.tended = "yes";
    const scope = encodeURIComponent(svg.dataset.scope);
    this.rule = new ReachRule(
      svg,
      (reach) => this.tryReach(reach, scope),
      (reach) => {
        for (const name of ["outward", "inward"]) {
          const field = document.querySelector(`#panel input[name$=".${name}"]`),
            value = Number((reach[name] / this.rule.scale).toPrecision(3)).toString();
          if (field && field.value !== value) {
            field.value = value;
            field.dispatchEvent(new Event("change", { bubbles: true }));
            return;
          }
        }
      },
    );
  }

  async tryReach(reach, scope) {
    const first = !this.trying,
      { scale } = this.rule;
    this.tryLive({ outward: reach.outward / scale, inward: reach.inward / scale }, decodeURIComponent(scope));
    this.trying = { ...reach };
    if (!first) return;
    while (this.trying) {
      const { outward, inward } = this.trying;
      const query = `scope=${scope}&outward=${outward / scale}&inward=${inward / scale}`;
      try {
        const words = await (await request(`${this.base}/coverage?${query}`)).text();
        if ($("coverage")) {
          $("coverage").innerHTML = words;
          await this.show(query);
        }
      } catch {
        /* the next that is tried may be had; the panel of what is set tells of the rest */
      }
      if (this.trying && this.trying.outward === outward && this.trying.inward === inward) this.trying = null;
      else
        await new Promise((resolve) => {
          setTimeout(resolve, BETWEEN);
        }); // the map that follows the handle goes first
    }
  }

  async show(query) {
    const covered = $("covered");
    if (!covered || !this.rule) return;
    this.rule.setRule(JSON.parse(covered.dataset.rule));
    const found = await fetchMesh(`${this.base}/coverage/points?${query}`);
    if (found && $("reach-rule")) this.model.setContours(found.arrays);
  }

  // Folds are hatched in both views; a place of the sculpt that is not held is turned to.
  async clicked(e) {
    if (e.target.id === "show-folds") {
      const { header, arrays } = await fetchMesh(
        `${this.base}/coverage/folds?scope=${encodeURIComponent($("reach-rule").dataset.scope)}`,
      );
      this.mark(header, arrays);
      return;
    }
    const place = e.target.dataset?.place?.split(",").map(Number);
    if (place) this.turnTo(place, e.target.dataset.showAs || "sculpt");
  }
}
