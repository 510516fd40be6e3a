"""Parallax: what no map cures, because a place of the low shows different places of the sculpt to different directions.

Pixels are gathered by the place of the low that they strike, in cells of texels of one island. The best that a map
could give at a pixel is normalize(m + r): m is what the best on this low gives there, r the mean of what the sculpt's
normals in the cell differ from it, so that detail finer than a cell counts as drawn. What remains is the mean angle of
the sculpt's normals to that. Where it is large the low needs triangles. It is a floor to know, not a target: a mean
direction blurs.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, I32, I64
from ..base.figures import figure
from ..base.kernels import kernel
from ..base.records import Record
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.sheet_surroundings import islands_on
from ..flaws.flaw import Flaw
from ..mesh.adjacency import edges_of, groups
from ..mesh.mesh import corner_positions
from .pictures_around import Pixels, pictures_around
from .worn_pictures import Pictures, normal_of_low, worn

FEWEST = 8  # pixels of a cell
LEVELS = 6  # how often a cell is doubled until it has so many
NEEDS = 8.0  # degrees from which on a face of the low needs more triangles,
SEEN = 0.02  # if its place adds so many degrees to the mean
MOST_PLACES = 12


@dataclass(frozen=True, slots=True)
class Parallax:
    """mean in degrees over all pixels; angles (H, W) float32 at the texels of every sheet, NaN where nothing is seen.

    places are where the low needs triangles, the worst first, with the triangles of the low that they hold.
    """

    mean: float
    angles: list[F32]
    places: list[Flaw]
    triangles: list[I64]


def parallax(contexts: list[Context], best: Pictures, proof: bool = False) -> Parallax | None:
    """The parallax of a piece, one context a sheet, whose best on this low is `best`. None where nothing is seen."""
    pixels, dressed = pictures_around(contexts, proof).whole, worn(contexts, best)
    if not len(pixels.low):
        return None
    texel = np.empty(len(pixels.low), np.int64)
    given = np.empty_like(pixels.normal)

    def work(first: int, last: int) -> None:
        _wear(first, last, pixels.low, pixels.b, dressed.record, texel, given)

    in_batches(len(texel), work, cancelled=contexts[0].warm.stopped)
    angle = _angles(pixels.normal, given, _cells(contexts, texel, FEWEST))
    sums = np.bincount(texel[texel >= 0], angle[texel >= 0], dressed.texels)
    counts = np.bincount(texel[texel >= 0], minlength=dressed.texels)
    means = np.full(dressed.texels, np.nan, np.float32)
    means[counts > 0] = sums[counts > 0] / counts[counts > 0]
    shapes = [context.cast.covered.shape for context in contexts]
    ends = np.cumsum([height * width for height, width in shapes])[:-1]
    angles = [part.reshape(shape) for part, shape in zip(np.split(means, ends), shapes, strict=True)]
    places, triangles = _places(contexts[0], pixels, angle)
    return Parallax(float(angle.mean(dtype=np.float64)), angles, places, triangles)


def _cells(contexts: list[Context], texel: I64, fewest: int) -> list[I64]:
    """The cell of every pixel at each level, from small to large, (N,) each; `texel` counts through all sheets."""
    start, island, row, column = 0, np.zeros(len(texel), np.int64), np.zeros_like(texel), np.zeros_like(texel)
    for n, context in enumerate(contexts):
        height, width = context.cast.covered.shape
        here = (texel >= start) & (texel < start + height * width)
        row[here], column[here] = np.divmod(texel[here] - start, width)
        triangle = np.maximum(context.cast.low_triangle[row[here], column[here]], 0)
        island[here] = islands_on(context)[triangle].astype(np.int64) * len(contexts) + n
        start += height * width
    apart = 1 + int(max(row.max(initial=0), column.max(initial=0)))
    each = max(len(texel) / max(int(np.count_nonzero(np.bincount(texel[texel >= 0]))), 1), 1e-9)
    first = max(0, int(np.ceil(np.log2(np.sqrt(fewest / each)))))
    return [(island * apart + (row >> level)) * apart + (column >> level) for level in range(first, first + LEVELS)]


def _angles(normal: F32, given: F32, cells: list[I64]) -> F32:
    """Degrees between normals and the best map, from the smallest cell of each pixel that has enough of them."""
    angle, left, apart = np.zeros(len(normal), np.float32), np.ones(len(normal), bool), normal - given
    for n, cell in enumerate(cells):
        _, place, counts = np.unique(cell, return_inverse=True, return_counts=True)
        enough = left & ((counts[place] >= FEWEST) | (n == len(cells) - 1))
        if enough.any():
            mean = np.stack([np.bincount(place, apart[:, c]) / counts for c in range(3)], axis=1)
            best = given[enough] + mean[place[enough]]
            best /= np.maximum(np.linalg.norm(best, axis=1, keepdims=True), 1e-30)
            angle[enough] = np.degrees(np.arccos(np.clip(np.einsum("nc,nc->n", normal[enough], best), -1, 1)))
            left &= ~enough
        if not left.any():
            break
    return angle


def _places(context: Context, pixels: Pixels, angle: F32) -> tuple[list[Flaw], list[I64]]:
    """Where faces of the low that hang together have a large parallax."""
    low = context.assembly.low
    counts = np.bincount(pixels.low, minlength=len(low.triangles))
    sums = np.bincount(pixels.low, angle, len(low.triangles))
    wrong = (counts >= FEWEST) & (sums > NEEDS * counts)
    edges = edges_of(low)
    joined = wrong[:, None] & (edges.across >= 0) & wrong[np.maximum(edges.across, 0)]
    group = groups(edges, joined)
    found = list[tuple[Flaw, I64]]()
    for n in np.unique(group[wrong]):
        rows = np.flatnonzero((group == n) & wrong)
        share = float(sums[rows].sum()) / len(angle)
        if share >= SEEN:
            found.append((_place(context, rows, share, float(sums[rows].sum() / counts[rows].sum())), rows))
    found.sort(key=lambda each: -each[0].share)
    return [flaw for flaw, _ in found[:MOST_PLACES]], [rows for _, rows in found[:MOST_PLACES]]


def _place(context: Context, rows: I64, share: float, mean: float) -> Flaw:
    corners = corner_positions(context.assembly.low)[rows].astype(np.float64)
    lowest, highest = corners.reshape(-1, 3).min(axis=0), corners.reshape(-1, 3).max(axis=0)
    x, y, z = ((lowest + highest) / 2).tolist()
    radius = float(np.linalg.norm(highest - lowest) / 2)
    area = float(
        np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2
    )
    part = context.assembly.keys[context.assembly.low.objects[rows[0]]]
    return Flaw(
        cause="triangles",
        title="The low needs triangles",
        part=part,
        what=f"{len(rows)} faces over {figure(2 * radius)} show other places of the sculpt to other directions: no map "
        f"brings them closer than {mean:.0f}°.",
        remedy="Give the low more faces here, closer to the sculpt.",
        middle=(x, y, z),
        radius=radius,
        area=area,
        error=mean,
        share=share,
    )


@kernel
def _wear(first: int, last: int, low_triangle: I32, b: F32, worn: Record, texel: I64, given: F32) -> None:
    """The texel of some pixels, -1 off all sheets, and the unit normal (N, 3) that the low has there."""
    for i in range(first, last):
        (x, y, z), texel[i] = normal_of_low(low_triangle[i], np.float64(b[i, 0]), np.float64(b[i, 1]), worn)
        length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
        given[i, 0], given[i, 1], given[i, 2] = x / length, y / length, z / length
