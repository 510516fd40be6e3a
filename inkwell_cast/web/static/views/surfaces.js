// What surfaces are like by the sculpt's materials: on the low, a pair shines as most of its sculpt does.
import * as THREE from "three";

export class Surfaces {
  constructor(model) {
    this.model = model;
  }

  // The materials of the sculpts in view by name, sorted.
  get names() {
    return [...new Set(this.model.scenes.sculpt.children.flatMap(({ userData }) => userData.named))]
      .filter(Boolean)
      .sort();
  }

  // Roughness and metalness of vertices by material, { name: [roughness, metalness] }; others are as the whole is.
  wear(own) {
    const { low, sculpt } = this.model.scenes,
      most = new Map();
    for (const {
      geometry,
      userData: { named, materials },
    } of sculpt.children) {
      const part = geometry.attributes.part?.array;
      this.give(
        geometry,
        materials,
        named.map((name) => own[name]),
      );
      for (let i = 0; part && i < part.length; i++) {
        if (!most.has(part[i])) most.set(part[i], new Map());
        const counts = most.get(part[i]),
          name = named[materials[i]];
        counts.set(name, (counts.get(name) ?? 0) + 1);
      }
    }
    const ofPart = this.model.partNames.map(
      (_, n) => own[[...(most.get(n) ?? [])].sort((a, b) => b[1] - a[1])[0]?.[0]],
    );
    for (const { geometry } of low.children)
      if (geometry.attributes.part) this.give(geometry, geometry.attributes.part.array, ofPart);
    this.model.draw();
  }

  give(geometry, kinds, values) {
    const gloss = new Float32Array(2 * kinds.length);
    if (values.some(Boolean))
      for (let i = 0; i < kinds.length; i++) if (values[kinds[i]]) gloss.set(values[kinds[i]], 2 * i);
    geometry.setAttribute("gloss", new THREE.BufferAttribute(gloss, 2));
  }
}
