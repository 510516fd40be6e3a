"""Surface of the low that strays far from its high: rays of its reach will not find it."""

from collections.abc import Iterator

import numpy as np

from ..base.figures import figure
from ..cage.cage import reaches
from ..rays.nearest_surface import NearestSurface
from .finding import Finding, Inspected, plural

KEY = "stray"
TITLE = "Low strays from its high"
FOLLOWS_REACH = True
LEAST_SHARE = 0.02


def find(piece: Inspected) -> Iterator[Finding]:
    """By the distance from each face's centre to the surface of the pair's highs."""
    assembly = piece.assembly
    if not len(assembly.low.triangles):
        return
    outward, inward = reaches(assembly)
    reach = dict(zip(assembly.low.objects.tolist(), np.maximum(outward, inward).tolist(), strict=True))
    for pair in assembly.paired.pairs:
        highs = [(s.mesh.positions, s.mesh.triangles) for s in piece.highs if s.pair == pair.name]
        if not highs or pair.sources:
            continue
        surface = NearestSurface.of(highs)
        for low in piece.lows:
            if low.pair != pair.name or low.part.key not in assembly.keys:
                continue
            allowed = reach[assembly.keys.index(low.part.key)]
            distance, _ = surface.at(low.mesh.positions[low.mesh.triangles].mean(axis=1).astype(np.float64))
            far = (distance > allowed) & low.judged
            if far.mean() > LEAST_SHARE:
                count = int(far.sum())
                yield Finding(
                    KEY,
                    "warning",
                    TITLE,
                    low.part.key,
                    count,
                    f"{plural(count, 'triangle')} of {low.part.name} up to "
                    f"{figure(float(distance[far].max()))} scene units from the high; the reach is {figure(allowed)}.",
                    "Raise the reach, or shape the low after the sculpt.",
                    marks=low.marks(far),
                )
