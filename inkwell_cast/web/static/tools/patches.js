// Patches on the model: a rim, and a dashed one where it begins to fade, as the server lays them along the surface.
import { request, sending } from "../common/requests.js";
import { parseMesh } from "../views/mesh_message.js";

export class Patches {
  // Each user of a model has its own: pockets, mends by hand, what a mend would change. `together` they have one rim.
  constructor(base, model, together = false) {
    Object.assign(this, { base, model, together, newest: 0, before: Promise.resolve() });
  }

  // Show some, each {key, centre, radius, rim}; with `to`, a place of the low, the first one as it reaches there. One
  // after the other; what is not the newest when its turn comes is left out. Gives the patches as they are shown, or
  // null for those left out.
  show(patches, to = null) {
    const mine = ++this.newest;
    const shown = this.before.then(async () => {
      if (mine !== this.newest) return null;
      const laid = patches.length ? await this.laid(patches, to) : [];
      this.model.setRims(this, laid);
      return laid;
    });
    this.before = shown.catch(() => {}); // told to who asked
    return shown;
  }

  async laid(patches, to) {
    const asked = patches.map(({ centre, radius, rim }) => ({ centre, radius, rim })),
      response = await request(`${this.base}/rims`, sending({ patches: asked, to, together: this.together })),
      { header, arrays } = parseMesh(await response.arrayBuffer());
    const laid = header.patches.map(({ middle, radius }, n) => ({
      ...patches[n],
      middle,
      radius,
      rimLines: arrays[`rim${n}`],
      softLines: arrays[`soft${n}`],
    }));
    return Object.assign(laid, { words: header.words });
  }

  clear() {
    this.show([]);
  }
}
