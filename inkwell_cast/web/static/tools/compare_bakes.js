// A second bake against the one shown: a wipe in both views, or one after the other at a key.
import { json } from "../common/requests.js";

export class CompareBakes {
  // `load(facts, key)` gives a bake's pictures by sheet; `shown()` the facts, map and sheet in view; `changed()` places
  // the wipe, `keep(id)` holds a bake.
  constructor(base, model, sheet, { load, shown, changed, keep }) {
    Object.assign(this, { base, model, sheet, load, shown, changed, keep, facts: null });
  }

  async open(id) {
    this.facts = await json(`${this.base}/bakes/${id}/facts`);
    for (const held of [this.facts.id, this.shown().facts?.id]) if (held) await this.keep(held);
    this.model.other = true;
    await this.dress();
    this.changed();
  }

  // The map in view, of the other bake; where it has none, nothing stands against it.
  async dress() {
    if (!this.facts) return;
    const { facts, key, sheet } = this.shown(),
      other = this.facts;
    if (!facts || facts.id === other.id) {
      this.close();
      return;
    }
    const made = other.maps.includes(key) && other.stale !== "meshes" ? await this.load(other, key) : null;
    if (this.facts !== other) return;
    this.model.setOther(made && Object.fromEntries(Object.entries(made).map(([name, m]) => [name, m.flipped])), other);
    this.sheet.setOther(made?.[sheet]?.upright ?? null);
  }

  flip() {
    this.model.flipped = !this.model.flipped;
    this.sheet.flipped = this.model.flipped;
    this.model.draw();
    this.sheet.draw();
    this.changed();
  }

  // Both at once: how far they are apart.
  differ(on = !this.model.difference) {
    this.model.difference = this.sheet.difference = on;
    this.model.draw();
    this.sheet.draw();
    this.changed();
  }

  close() {
    if (!this.facts) return;
    this.facts = null;
    this.model.difference = this.sheet.difference = false;
    this.model.other = this.model.flipped = this.sheet.flipped = false;
    this.model.setOther(null, null);
    this.sheet.setOther(null);
    this.changed();
  }
}
