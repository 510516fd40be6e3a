"""Pockets: patches of the low with an outward and inward reach of their own."""

import numpy as np

from ...base.kernels import kernel
from ...base.records import Record, record_kind, view
from ..along_surface import SPREAD, distance_along
from .soft_rim import fade

POCKET = np.dtype([(name, np.float64) for name in ("x", "y", "z", "radius", "rim", "outward", "inward")])
POCKETS = record_kind({"pocket": POCKET, "spread": SPREAD})


@kernel
def in_pockets(
    t: int, x: float, y: float, z: float, outward: float, inward: float, modifiers: Record
) -> tuple[float, float]:
    """Outward and inward reach at a place of triangle t after all pockets, the later ones over the earlier ones."""
    pockets = view(modifiers, "pockets")
    numbers, spread = view(pockets, "pocket"), view(pockets, "spread")
    starts, owner, parts = view(spread, "starts"), view(spread, "owner"), view(spread, "parts")
    for i in range(starts[t], starts[t + 1]):
        pocket = numbers[owner[i]]
        weight = fade(distance_along(parts[i], x, y, z) / pocket.radius, pocket.rim)
        outward += weight * (pocket.outward - outward)
        inward += weight * (pocket.inward - inward)
    return outward, inward
