"""Texel density that varies wildly between islands: some parts are blurred while others waste room."""

from collections.abc import Iterator

import numpy as np

from .finding import Finding, Inspected
from .uv_area import signed_area

KEY = "density"
TITLE = "Uneven texel density"
FACTOR = 4.0
LEAST_SHARE = 0.01  # of the surface: smaller islands do not count


def find(piece: Inspected) -> Iterator[Finding]:
    """By island: side of a texel against the middle of the piece."""
    entries = []
    for low in piece.lows:
        if low.uvs is None or not len(low.uvs):
            continue
        p = low.mesh.positions[low.mesh.triangles].astype(np.float64)
        area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) / 2
        solid = np.bincount(low.islands, area)
        flat = np.bincount(low.islands, np.abs(signed_area(low.uvs)))
        entries += [(low, n, s, f) for n, (s, f) in enumerate(zip(solid, flat, strict=True)) if s > 0 and f > 0]
    total = sum(s for _, _, s, _ in entries)
    entries = [e for e in entries if e[2] > LEAST_SHARE * total]
    if len(entries) < 2:
        return
    density = np.sqrt([f / s for _, _, s, f in entries])
    order = np.argsort(density)
    weights = np.array([entries[k][2] for k in order]).cumsum()
    middle = density[order[int(np.searchsorted(weights, weights[-1] / 2))]]
    for (low, n, _, _), d in zip(entries, density, strict=True):
        if not 1 / FACTOR < d / middle < FACTOR:
            word = "coarser" if d < middle else "finer"
            yield Finding(
                KEY,
                "note",
                TITLE,
                low.part.key,
                1,
                f"An island of {low.part.name} is {max(d / middle, middle / d):.1f} times {word} than most of them.",
                "Scale the island, if it can be seen as well as the rest.",
                marks=low.marks(low.islands == n),
            )
