"""Pockets: balls in space with an outward and inward reach of their own."""

import numpy as np

from ...base.kernels import kernel
from ...base.records import Record, view
from .soft_rim import fade

POCKET = np.dtype([(name, np.float64) for name in ("x", "y", "z", "radius", "rim", "outward", "inward")])


@kernel
def in_pockets(x: float, y: float, z: float, outward: float, inward: float, modifiers: Record) -> tuple[float, float]:
    """Outward and inward reach at a place of the low after all pockets, the later ones over the earlier ones."""
    pockets = view(modifiers, "pockets")
    for k in range(len(pockets)):
        pocket = pockets[k]
        dx, dy, dz = x - pocket.x, y - pocket.y, z - pocket.z
        weight = fade(np.sqrt(dx * dx + dy * dy + dz * dz) / pocket.radius, pocket.rim)
        outward += weight * (pocket.outward - outward)
        inward += weight * (pocket.inward - inward)
    return outward, inward
