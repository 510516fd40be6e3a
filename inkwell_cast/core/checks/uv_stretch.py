"""UVs that are stretched more in one direction than in the other: detail is blurred along one axis and wasted across."""

from collections.abc import Iterator

import numpy as np

from ..base.array_types import F64
from .finding import Finding, Inspected, Subject

KEY = "stretch"
TITLE = "Stretched UVs"
FACTOR = 4.0  # between the two directions
LEAST_SHARE = 0.02  # of the surface of all lows
FAINT = 1e-12


def find(piece: Inspected) -> Iterator[Finding]:
    """By part: the triangles whose texels are long and narrow."""
    total = sum(float(_areas(low).sum()) for low in piece.lows)
    for low in piece.lows:
        if low.uvs is None or not len(low.uvs):
            continue
        ratio, area = stretch_of(low), _areas(low)
        wrong = ratio > FACTOR
        share = float(area[wrong].sum()) / max(total, 1e-300)
        if share > LEAST_SHARE:
            typical = float(np.median(ratio[wrong]))
            yield Finding(
                KEY,
                "warning",
                TITLE,
                low.part.key,
                int(wrong.sum()),
                f"On {share:.0%} of the surface texels of {low.part.name} are about {typical:.0f} times as long as wide.",
                "Unwrap it again, or scale the islands so that a square stays a square.",
                marks=low.marks(wrong),
            )


def _areas(low: Subject) -> F64:
    p = low.mesh.positions[low.mesh.triangles].astype(np.float64)
    return np.asarray(np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) / 2)


def stretch_of(low: Subject) -> F64:
    """How many times more each triangle is stretched in one direction than across it, (T,); 1 where that says nothing.

    The singular values of the map from UVs to space (P. Sander et al., "Texture Mapping Progressive Meshes", 2001).
    """
    assert low.uvs is not None
    p, q = low.mesh.positions[low.mesh.triangles].astype(np.float64), low.uvs.astype(np.float64)
    e1, e2, s, t = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0], q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    flat = s[:, 0] * t[:, 1] - s[:, 1] * t[:, 0]
    usable = np.abs(flat) > FAINT
    divisor = np.where(usable, flat, 1)[:, None]
    du, dv = (e1 * t[:, 1:] - e2 * s[:, 1:]) / divisor, (e2 * s[:, :1] - e1 * t[:, :1]) / divisor
    a, b, c = (np.einsum("tc,tc->t", x, y) for x, y in ((du, du), (du, dv), (dv, dv)))
    root = np.sqrt((a - c) ** 2 + 4 * b**2)
    large, small = np.sqrt((a + c + root) / 2), np.sqrt(np.maximum((a + c - root) / 2, 0))
    usable &= small > 1e-9 * np.maximum(large, 1e-300)
    return np.where(usable, large / np.where(usable, small, 1), 1.0)
