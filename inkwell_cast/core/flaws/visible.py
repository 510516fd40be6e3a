"""What a viewer sees of a bake, texel by texel: by how much it is worse than the best on this low."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, Bool
from ..base.kernels import kernel

BARE = 45.0  # degrees: how wrong a place of the low looks that has no sculpt
FEW = 1e-9  # pixels: fewer are none
AROUND = 2  # texels: what is seen of a row, so that chance evens out


@dataclass(frozen=True, slots=True)
class SharedTexels:
    """Of one sheet, (H, W): degrees and pixels, as they weigh, that fell on texels baked for another place of the low.

    other (H, W) int32 is the last face of the low that read the texel from there, -1 for none.
    """

    angle: F32
    pixels: F32
    other: I32


@dataclass(frozen=True, slots=True)
class Visible:
    """Of one sheet, (H, W): degrees of excess and of angle summed over pixels, and how many those are, as they weigh.

    bare (H, W) float32 counts pixels that saw the low where no front of the sculpt is. wanted (H, W) float32 is how far
    off the low what the best on this low takes lies, scene units, positive outward, NaN for nothing. shared is what
    was seen from elsewhere; faces (T, 2) are degrees and pixels of the triangles of the low. total are the pixels of
    both kinds on all sheets, mean the angle over the first; outline (P,) is the share of outline pixels of each pair
    alone.
    """

    excess: F32
    angle: F32
    pixels: F32
    bare: F32
    wanted: F32
    shared: SharedTexels
    faces: F64
    total: float
    mean: float
    outline: F64


@dataclass(frozen=True, slots=True)
class RowsSeen:
    """What is seen of some texels, (N,) each; degrees.

    excess is how much worse a row looks than the best on this low, or than a sculpt where rays missed it; angle is all
    that is seen. share is what its excess adds to the mean of the piece, pixels how many see it.
    """

    excess: F64
    angle: F64
    share: F64
    pixels: F64


def contrast(angle: F64) -> F64:
    """The share by which light that falls at 45° changes where a normal is turned by an angle; degrees, (N,).

    Turned toward it cos(45° - a) / cos 45° = cos a + sin a, turned away cos a - sin a: sin a in the mean of both.
    """
    return np.sin(np.radians(np.clip(angle, 0.0, 90.0)))


def rows_seen(visible: Visible, x: I32, y: I32, step: int, missed: Bool) -> RowsSeen:
    """What is seen of texels x, y (N,), each standing for `step` x `step`; `missed` (N,) are those without a hit."""
    arrays = visible.excess, visible.angle, visible.pixels, visible.bare
    own, around = sums_around(x, y, step, arrays, 0), sums_around(x, y, step, arrays)
    for sums in (own, around):
        sums[:, 3] *= missed
        sums[:, 0] += BARE * sums[:, 3]
    pixels = around[:, 2] + around[:, 3]
    return RowsSeen(
        around[:, 0] / np.maximum(pixels, FEW),
        around[:, 1] / np.maximum(around[:, 2], FEW),
        own[:, 0] / max(visible.total, FEW),
        own[:, 2] + own[:, 3],
    )


def sums_around(x: I32, y: I32, step: int, arrays: tuple[F32, F32, F32, F32], around: int = AROUND) -> F64:
    """Sums (N, 4) of four arrays (H, W) over the texels that rows stand for, and `around` more on each side."""
    sums = np.zeros((len(x), 4))
    _gather(x, y, step, around, *arrays, sums)
    return sums


@kernel
def _gather(x: I32, y: I32, step: int, around: int, excess: F32, angle: F32, pixels: F32, bare: F32, sums: F64) -> None:
    """Sum over the square of `step` texels that a row stands for, and `around` more on each side: sums (N, 4)."""
    height, width = pixels.shape
    for i in range(len(x)):
        for row in range(max(y[i] - around, 0), min(y[i] + step + around, height)):
            for column in range(max(x[i] - around, 0), min(x[i] + step + around, width)):
                sums[i, 0] += excess[row, column]
                sums[i, 1] += angle[row, column]
                sums[i, 2] += pixels[row, column]
                sums[i, 3] += bare[row, column]
