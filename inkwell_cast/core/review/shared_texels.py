"""What is seen of the low face by face, and at texels that faces share: a map holds there what one of them needs.

A pixel lies *elsewhere* where the face that it strikes reads a texel which was baked for another face, some texels
away on the surface: islands overlap there, or are folded over.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, I64
from ..base.kernels import kernel
from ..cast.context import Context
from ..flaws.visible import SharedTexels
from ..mesh.mesh import corner_positions
from ..rays.closest_point import closest_on_triangle
from .pictures_around import Pixels

AWAY = 3.0  # texels between a pixel's place and the face that its texel belongs to


@dataclass(frozen=True, slots=True)
class FaceSums:
    """Sums over pixels: degrees and weights of each face, by_face (T, 2), and of what lies elsewhere, by texel.

    owner (N,) is the face that each texel of all sheets belongs to, -1 for none; corners (T, 3, 3) are those of the
    low, away (T,) the square of how far off is elsewhere.
    """

    owner: I32
    corners: F64
    away: F64
    by_face: F64
    elsewhere: F32
    other: I32
    shapes: list[tuple[int, int]]

    @classmethod
    def of(cls, contexts: list[Context]) -> "FaceSums":
        """Nothing yet, for the sheets of a piece."""
        low = contexts[0].assembly.low
        corners, owner = corner_positions(low).astype(np.float64), []
        away = np.zeros(len(corners))
        for context in contexts:
            of_texel, rows = context.cast.low_triangle, context.low.triangles
            owner.append(np.where(of_texel >= 0, rows[np.maximum(of_texel, 0)], -1).astype(np.int32).reshape(-1))
            away[rows] = (AWAY * context.low.texel_sides(corners[rows])) ** 2
        texels = sum(len(each) for each in owner)
        empty = np.zeros((len(corners), 2)), np.zeros((texels, 2), np.float32), np.full(texels, -1, np.int32)
        return cls(np.concatenate(owner), corners, away, *empty, [context.cast.covered.shape for context in contexts])

    def add(self, pixels: Pixels, angle: F32, texel: I64, weight: float) -> None:
        """Add pixels with their angles and texels, (N,)."""
        faces = self.owner, self.corners, self.away
        sums = self.by_face, self.elsewhere, self.other
        _add(pixels.low, pixels.b, angle, texel, np.float32(weight), faces, sums)

    def by_sheet(self) -> list[SharedTexels]:
        ends = np.cumsum([height * width for height, width in self.shapes])[:-1]
        parts = (np.split(np.ascontiguousarray(values), ends) for values in (*self.elsewhere.T, self.other))
        each = zip(*parts, self.shapes, strict=True)
        return [SharedTexels(a.reshape(shape), p.reshape(shape), o.reshape(shape)) for a, p, o, shape in each]


@kernel
def _add(
    low: I32, b: F32, angle: F32, texel: I64, weight: float, faces: tuple[I32, F64, F64], sums: tuple[F64, F32, I32]
) -> None:
    """Add pixels (N,) of a weight to the arrays of `FaceSums`."""
    owner, corners, away = faces
    by_face, elsewhere, other = sums
    for i in range(len(low)):
        t = low[i]
        by_face[t, 0] += weight * angle[i]
        by_face[t, 1] += weight
        own = owner[texel[i]] if texel[i] >= 0 else -1
        if own < 0 or own == t:
            continue
        b1, b2 = np.float64(b[i, 0]), np.float64(b[i, 1])
        p, b0 = corners[t], 1 - b1 - b2
        x = b0 * p[0, 0] + b1 * p[1, 0] + b2 * p[2, 0]
        y = b0 * p[0, 1] + b1 * p[1, 1] + b2 * p[2, 1]
        z = b0 * p[0, 2] + b1 * p[1, 2] + b2 * p[2, 2]
        if closest_on_triangle(x, y, z, corners, own)[0] > away[t]:
            elsewhere[texel[i], 0] += weight * angle[i]
            elsewhere[texel[i], 1] += weight
            other[texel[i]] = t
