// Patches on the model: a rim, and a dashed one where it begins to fade, as the server lays them along the surface.
import { request, sending } from "../common/requests.js";
import { parseMesh } from "../views/mesh_message.js";

export class Patches {
  // Each user of a model has its own: pockets, mends by hand, what a mend would change. `together` they have one rim.
  constructor(base, model, together = false) {
    Object.assign(this, { base, model, together, wanted: null, asking: false });
  }

  // Show some, each {key, centre, radius, rim}; with `to`, a place of the low, the first one as it reaches there. Only
  // the newest is asked for while one is under way. Gives the patches as they are shown, or null where newer ones are.
  async show(patches, to = null) {
    this.wanted = { patches, to };
    if (this.asking) return null;
    this.asking = true;
    let shown = null;
    try {
      while (this.wanted) {
        const now = this.wanted;
        this.wanted = null;
        shown = now.patches.length ? await this.laid(now) : [];
        if (!this.wanted) this.model.setRims(this, shown);
      }
    } finally {
      this.asking = false;
    }
    return shown;
  }

  async laid({ patches, to }) {
    const asked = patches.map(({ centre, radius, rim }) => ({ centre, radius, rim })),
      response = await request(`${this.base}/rims`, sending({ patches: asked, to, together: this.together })),
      { header, arrays } = parseMesh(await response.arrayBuffer());
    return header.patches.map(({ middle, radius }, n) => ({
      ...patches[n],
      middle,
      radius,
      rimLines: arrays[`rim${n}`],
      softLines: arrays[`soft${n}`],
    }));
  }

  clear() {
    this.show([]);
  }
}
