"""Likeness as seen: the angle between sculpt and low with its map, from evenly spread directions around the piece.

Of every pixel of the pictures around a piece that hits both: the angle between the sculpt's interpolated unit normal
and the one that a receiver computes from the written file, read bilinearly: normalize(x T + y B + z N). All pixels
weigh the same. So a figure here gets worse whenever a viewer sees a worse bake, which the rounding of a file
(`review/likeness.py`) does not.
"""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from pydantic import BaseModel

from ..base.array_types import F32, I32, I64, Bool
from ..base.kernel_types import Vector
from ..base.kernels import kernel, prange
from ..base.records import Record
from ..base.threads import in_batches
from ..cast.context import Context
from .pictures_around import Pixels, pictures_around
from .shared_texels import FaceSums
from .worn_pictures import DressedLow, Pictures, normal_of_low, place_of_low, worn

BINS = 18_000  # of a hundredth of a degree
ENOUGH = 6  # pixels around a texel that none fell on by chance
FARTHEST = 8  # texels that those are sought within
SHIFTED = ("mean", "p95", "over_5", "over_15", "over_30")
OFF = 90.0  # degrees: how wrong a place off all sheets looks


class AsSeen(BaseModel):
    """Angles in degrees over the pixels that hit both; shares from 0 to 1.

    over_5, over_15 and over_30 are shares of those pixels; outline and inside shares of the pixels that hit either.
    """

    mean: float
    p95: float
    over_5: float
    over_15: float
    over_30: float
    outline: float
    inside: float
    pixels: int

    def figures(self, excess: float, missed: float) -> dict[str, float]:
        """What limits are compared with (`settings.limits`); missed is a share of the covered texels."""
        return {
            "mean": self.mean,
            "p95": self.p95,
            "over5": self.over_5,
            "over15": self.over_15,
            "over30": self.over_30,
            "outline": self.outline,
            "inside": self.inside,
            "excess": excess,
            "missed": missed,
        }


@dataclass(frozen=True)
class SeenSheets:
    """What was seen: the figures of the whole and of each pair alone, and texel by texel, (H, W) a sheet.

    sums and counts float32 are degrees and pixels that fell on a texel, with all parts in place and with each pair
    alone; pixels that take less of the surface weigh less (`Around.each`). together are those with all parts in place,
    covered the texels that lie on the low.
    """

    whole: AsSeen | None
    pairs: list[AsSeen | None]
    sums: list[F32]
    counts: list[F32]
    together: "Sums"
    covered: list[Bool]

    def beside(self, finer: "SeenSheets", own: "SeenSheets") -> "SeenSheets":
        """This best on a low for finer pictures, which differ from it as their `own` at this one's size do."""
        found = [finer.whole, *finer.pairs], [own.whole, *own.pairs], [self.whole, *self.pairs]
        whole, *pairs = (_shifted(*three) for three in zip(*found, strict=True))
        sums = [a - (b - c) for a, b, c in zip(finer.sums, own.sums, self.sums, strict=True)]
        return replace(self, whole=whole, pairs=pairs, sums=sums, counts=finer.counts)

    @cached_property
    def angles(self) -> list[F32]:
        """Means (H, W) over the directions that see a texel with all parts in place, NaN for one that none sees."""
        return self.together.means(self.covered)

    @cached_property
    def never_seen(self) -> float:
        """The share of the covered texels that no direction sees with all parts in place."""
        unseen = [int((on & np.isnan(angle)).sum()) for on, angle in zip(self.covered, self.angles, strict=True)]
        return sum(unseen) / max(sum(int(on.sum()) for on in self.covered), 1)


def _shifted(finer: AsSeen | None, own: AsSeen | None, best: AsSeen | None) -> AsSeen | None:
    """The figures of a best, shifted by what finer pictures differ from `own`; none below 0."""
    if finer is None or own is None or best is None:
        return best
    shifted = {name: max(getattr(finer, name) - getattr(own, name) + getattr(best, name), 0.0) for name in SHIFTED}
    return best.model_copy(update=shifted)


def as_seen(
    contexts: list[Context], pictures: list[Pictures], proof: bool = False, faces: FaceSums | None = None
) -> list[SeenSheets]:
    """How the sheets of a piece, one context each, look with some sets of pictures, all judged by the same pixels.

    `proof` looks from fewer directions at smaller pictures; `faces` hear what is seen of the first pictures. Raises
    Cancelled where the work is no longer wanted.
    """
    around, found = pictures_around(contexts, proof), []
    covered = [c.cast.covered > 0 for c in contexts]
    for each in pictures:
        dressed = worn(contexts, each)
        sums, together = Sums(*np.zeros((2, dressed.texels), np.float32)), None
        figures_of = dict[int, AsSeen | None]()
        for pixels, weight in around.each():
            heard = faces if each is pictures[0] else None
            figures_of[id(pixels)] = _judged(contexts[0], pixels, dressed, sums, weight, heard)
            together = together or (sums if len(around.pairs) < 2 else Sums(sums.angle.copy(), sums.count.copy()))
        assert together is not None
        alone = [figures_of[id(pixels)] for pixels in around.pairs]
        found.append(SeenSheets(figures_of[id(around.whole)], alone, *sums.by_sheet(covered), together, covered))
    return found


def bare_pixels(contexts: list[Context], pictures: Pictures, proof: bool = False) -> list[F32]:
    """How many pixels fell on a texel (H, W) of each sheet where no front of the sculpt is at its place.

    With all parts in place and with each pair alone, weighed as in `SeenSheets`; `pictures` has the sheets’ sizes.
    """
    around, dressed = pictures_around(contexts, proof), worn(contexts, pictures)
    counts = np.zeros(dressed.texels, np.float32)
    for pixels, weight in around.each():
        _count(pixels.bare, pixels.bare_b, dressed.record, np.float32(weight), counts)
    shapes = [context.cast.covered.shape for context in contexts]
    ends = np.cumsum([height * width for height, width in shapes])[:-1]
    return [part.reshape(shape) for part, shape in zip(np.split(counts, ends), shapes, strict=True)]


@dataclass(frozen=True, slots=True)
class Sums:
    """Angles and weights summed by texel, in the order of the pixels."""

    angle: F32
    count: F32

    def by_sheet(self, covered: list[Bool]) -> tuple[list[F32], list[F32]]:
        """Sums and counts (H, W) of every sheet."""
        ends = np.cumsum([on.size for on in covered])[:-1]
        counts = [c.reshape(on.shape) for c, on in zip(np.split(self.count, ends), covered, strict=True)]
        return [a.reshape(on.shape) for a, on in zip(np.split(self.angle, ends), covered, strict=True)], counts

    def means(self, covered: list[Bool]) -> list[F32]:
        """Mean angles (H, W) of every sheet, NaN where no pixel lies around.

        Some texels go without a pixel by chance; they take the mean of what lies around them.
        """
        angles, counts = self.by_sheet(covered)
        on_low = sum(int(on.sum()) for on in covered)
        each = max(float(self.count.sum(dtype=np.float64)) / max(on_low, 1), 1e-9)
        away = int(np.clip(np.ceil((np.sqrt(ENOUGH / each) - 1) / 2), 1, FARTHEST))
        means = []
        for angle, count, on in zip(angles, counts, covered, strict=True):
            mean = np.full(on.shape, np.nan, np.float32)
            _means(angle, count, on, away, mean)  # type: ignore[call-arg]
            means.append(mean)
        return means


def _judged(
    context: Context, pixels: Pixels, dressed: DressedLow, sums: Sums, weight: float, faces: FaceSums | None
) -> AsSeen | None:
    """The figures of some pixels with pictures on the low, None for no pixels; adds to `sums` with their weight."""
    angle, texel = np.empty(len(pixels.low), np.float32), np.empty(len(pixels.low), np.int64)

    def work(first: int, last: int) -> None:
        _judge(first, last, (pixels.low, pixels.b, pixels.normal), dressed.record, angle, texel)

    in_batches(len(angle), work, cancelled=context.warm.stopped)
    bins = np.zeros(BINS + 1, np.int64)
    total = _tally(angle, bins)
    _add(angle, texel, np.float32(weight), sums.angle, sums.count)
    if faces:
        faces.add(pixels, angle, texel, weight)
    return _figures(pixels, bins, total) if len(angle) else None


def _figures(pixels: Pixels, bins: I64, total: float) -> AsSeen:
    both = len(pixels.low)
    over = [float(bins[int(limit * BINS / 180) :].sum() / both) for limit in (5, 15, 30)]
    p95 = (int(np.searchsorted(np.cumsum(bins), 0.95 * both)) + 0.5) * 180 / BINS
    either = both + pixels.outline + pixels.inside
    return AsSeen(
        mean=total / both,
        p95=p95,
        over_5=over[0],
        over_15=over[1],
        over_30=over[2],
        outline=pixels.outline / either,
        inside=pixels.inside / either,
        pixels=both,
    )


@kernel
def _count(low_triangle: I32, b: F32, worn: Record, weight: float, counts: F32) -> None:
    """Count pixels (N,) on their texels."""
    for i in range(len(low_triangle)):
        _, _, _, texel = place_of_low(low_triangle[i], np.float64(b[i, 0]), np.float64(b[i, 1]), worn)
        if texel >= 0:
            counts[texel] += weight


@kernel
def _tally(angle: F32, bins: I64) -> float:
    """Count angles (N,) in bins; gives their sum."""
    total, scale = 0.0, np.float32((len(bins) - 1) / 180)
    for i in range(len(angle)):
        bins[np.int64(angle[i] * scale)] += 1
        total += angle[i]
    return total


@kernel
def _add(angle: F32, texel: I64, weight: float, sums: F32, count: F32) -> None:
    """Add angles (N,) of a weight to the sums and counts of their texels."""
    for i in range(len(angle)):
        if texel[i] >= 0:
            sums[texel[i]] += weight * angle[i]
            count[texel[i]] += weight


@kernel(parallel=True)
def _means(angle: F32, count: F32, covered: Bool, away: int, mean: F32) -> None:
    """Mean angles of texels; covered ones without a pixel have that of those up to `away` texels around."""
    height, width = count.shape
    for y in prange(height):
        for x in range(width):
            if count[y, x]:
                mean[y, x] = angle[y, x] / count[y, x]
            elif covered[y, x]:
                total, many = 0.0, 0.0
                for j in range(max(y - away, 0), min(y + away + 1, height)):
                    for i in range(max(x - away, 0), min(x + away + 1, width)):
                        total += angle[j, i]
                        many += count[j, i]
                if many:
                    mean[y, x] = total / many


@kernel
def _judge(first: int, last: int, pixels: tuple[I32, F32, F32], worn: Record, angle: F32, texel: I64) -> None:
    """The angles of pixels `first` to `last`, and their texels, -1 off all sheets."""
    low_triangle, b, normal = pixels
    for i in range(first, last):
        given, texel[i] = normal_of_low(low_triangle[i], np.float64(b[i, 0]), np.float64(b[i, 1]), worn)
        angle[i] = OFF
        if texel[i] >= 0:
            nx, ny, nz = np.float64(normal[i, 0]), np.float64(normal[i, 1]), np.float64(normal[i, 2])
            angle[i] = _between(given, (nx, ny, nz))


@kernel
def _between(a: Vector, b: Vector) -> float:
    """Degrees between two vectors."""
    cx, cy, cz = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
    sine = np.sqrt(cx * cx + cy * cy + cz * cz)
    return np.degrees(np.arctan2(sine, a[0] * b[0] + a[1] * b[1] + a[2] * b[2]))
