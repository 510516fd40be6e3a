"""Surface of the low that strays far from its high: rays of its reach will not find it."""

from collections.abc import Iterator

import numpy as np

from ..base.on_demand import on_demand
from ..cage.cage import reaches
from ..mesh.surface_samples import surface_of
from .finding import Finding, Inspected, plural

cKDTree = on_demand("scipy.spatial", "cKDTree")

KEY = "stray"
TITLE = "Low strays from its high"
FOLLOWS_REACH = True
MOST_POINTS = 400_000
LEAST_SHARE = 0.02


def find(piece: Inspected) -> Iterator[Finding]:
    """By the distance from each face's centre to the nearest vertex of the pair's highs, less their spacing there."""
    assembly = piece.assembly
    if not len(assembly.low.triangles):
        return
    outward, inward = reaches(assembly)
    reach = dict(zip(assembly.low.objects.tolist(), np.maximum(outward, inward).tolist(), strict=True))
    for pair in assembly.paired.pairs:
        highs = [s.mesh for s in piece.highs if s.pair == pair.name]
        if not highs or pair.sources:
            continue
        points = np.concatenate([mesh.positions for mesh in highs])
        area = surface_of([(mesh.positions, mesh.triangles) for mesh in highs]).area
        step = max(1, len(points) // MOST_POINTS)
        tree = cKDTree(points[::step])
        spacing = np.sqrt(area / max(len(points) / step, 1)) * 1.5
        for low in piece.lows:
            if low.pair != pair.name or low.part.key not in assembly.keys:
                continue
            allowed = reach[assembly.keys.index(low.part.key)]
            distance = tree.query(low.mesh.positions[low.mesh.triangles].mean(axis=1), workers=-1)[0]
            far = distance > allowed + spacing
            if far.mean() > LEAST_SHARE:
                count = int(far.sum())
                yield Finding(
                    KEY,
                    "warning",
                    TITLE,
                    low.part.key,
                    count,
                    f"{plural(count, 'triangle')} of {low.part.name} up to "
                    f"{float(distance[far].max()):.3g} scene units from the high; the reach is {allowed:.3g}.",
                    "Raise the reach, or shape the low after the sculpt.",
                    marks=low.marks(far),
                )
