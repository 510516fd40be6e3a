"""How a bake is judged: as seen, beside the best on this low, and texel by texel what it is worse by."""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, U8, AnyArray
from ..base.kernels import kernel, prange
from ..cast.context import Context
from ..flaws.visible import AROUND, BARE, FEW, Visible
from ..settings.recipe import PROOF_SIDE
from .as_seen import AsSeen, SeenSheets, as_seen, bare_pixels
from .best_on_low import Candidate, nearest_of, outermost_of, own_of, padded, unburied
from .shared_texels import FaceSums
from .worn_pictures import Pictures

NOTHING = 0.01  # degrees by which a place without a surface looks worse than it does: any other comes before it
FIRST = 0.5  # degrees by which another must look better than what comes first, where that is anything


@dataclass(frozen=True, slots=True)
class Judgement:
    """What is seen of some pictures, of the best on this low, and what lies between, a `Visible` for each sheet.

    contexts are those that texels and best pictures have the sizes of; proof says whether fewer directions looked.
    """

    contexts: list[Context]
    proof: bool
    seen: SeenSheets
    best: SeenSheets
    visible: list[Visible]
    best_pictures: Pictures

    @property
    def mean(self) -> float:
        """Degrees over all pixels, with all parts in place and with each pair alone."""
        return _mean_of(self.seen)

    @property
    def excess(self) -> float:
        """Degrees over all pixels above the best on this low."""
        return _mean_of(self.seen) - _mean_of(self.best)

    @property
    def to_mend(self) -> float:
        """The excess with places of the low that have no sculpt where rays missed, degrees of the mean over all."""
        total = 0.0
        for context, seen in zip(self.contexts, self.visible, strict=True):
            missed = float(seen.bare[context.cast.struck == 0].sum())
            total += float(seen.excess.sum(dtype=np.float64)) + BARE * missed
        return max(total, 0.0) / max(self.visible[0].total, FEW)


@dataclass(frozen=True, slots=True)
class Best:
    """The best on this low: how it is seen, its pictures, and how far off the low it lies, (H, W) a sheet.

    contexts are those of a cast with a plain reach, so that it belongs to low and sculpt alone: it does not move with
    cage, reach or mends. wanted are scene units, positive outward, NaN for nothing.
    """

    contexts: list[Context]
    seen: SeenSheets
    pictures: Pictures
    wanted: list[F32]


def best_of(contexts: list[Context], proof: bool) -> Best:
    """Choose at every texel of casts with a plain reach what looks best: their own hit, the nearest or the outermost.

    `proof` looks from fewer directions. Raises Cancelled where the work is no longer wanted.
    """
    firsts = [unburied(context) for context in contexts]
    own = [first.image(context) for first, context in zip(firsts, contexts, strict=True)]
    looks = as_seen(contexts, [Pictures(_padded(own, contexts))], proof)
    tried = [_open(*each) for each in zip(looks[0].sums, looks[0].counts, firsts, strict=True)]
    candidates, images = [firsts], []
    for made in (nearest_of, outermost_of):
        candidates.append([made(*each) for each in zip(contexts, tried, firsts, strict=True)])
        each = zip(candidates[-1], contexts, tried, own, strict=True)
        images.append([one.image(context, texels, before) for one, context, texels, before in each])
    looks += as_seen(contexts, [Pictures(_padded(each, contexts)) for each in images], proof)
    best_images, wanted = [], []
    for n, context in enumerate(contexts):
        taken = _taken([look.sums[n] for look in looks], looks[0].counts[n], firsts[n])
        wanted.append(np.choose(taken, [each[n].heights for each in candidates]))
        image = np.where((taken == 1)[..., None], images[0][n], own[n])
        best_images.append(padded(np.where((taken == 2)[..., None], images[1][n], image), context))
    pictures = Pictures(best_images)
    return Best(contexts, as_seen(contexts, [pictures], proof)[0], pictures, wanted)


def judgement(
    contexts: list[Context], best: Best, pictures: Pictures | None = None, foreign: bool = False
) -> Judgement:
    """Judge the written pictures of normals, one a sheet, or those of the cast as they would be written unrounded.

    `foreign` pictures were made elsewhere: not what the contexts' casts found. Others may be larger than the contexts'
    sheets: what they are worse by than the best on this low is found at the size of those. Raises Cancelled where the
    work is no longer wanted.
    """
    shape = contexts[0].cast.covered.shape
    finer = pictures is not None and not foreign and pictures.images[0].shape[:2] != shape
    mine = [] if pictures and not finer else [Pictures([normals_of(context) for context in contexts])]
    given = pictures or mine[0]
    proof = max(shape) <= PROOF_SIDE
    faces = FaceSums.of(best.contexts)
    seen, *own = as_seen(best.contexts, [given, *mine] if finer else [given], proof, faces)
    seen_best = best.seen.beside(seen, own[0]) if finer else best.seen
    bare = [np.zeros_like(count) for count in seen.counts] if foreign else bare_pixels(best.contexts, given, proof)
    total, outline = _pixels((*seen.counts, *bare)), _outlines(seen.pairs)
    visible = [
        Visible(one - other, one, count, without, heights, shared, faces.by_face, total, _mean_of(seen), outline)
        for one, other, count, without, heights, shared in zip(
            seen.sums, seen_best.sums, seen.counts, bare, best.wanted, faces.by_sheet(), strict=True
        )
    ]
    return Judgement(contexts, proof, seen, seen_best, visible, best.pictures)


def small(pictures: Pictures) -> bool:
    """Whether pictures are those of a proof."""
    return max(max(image.shape[:2]) for image in pictures.images) <= PROOF_SIDE


def degrees_of(contexts: list[Context], sums: list[F32], counts: list[F32], bare: list[F32]) -> float:
    """The mean of summed angles, and of `BARE` at pixels that saw no sculpt where rays missed it; (H, W) a sheet."""
    total = pixels = 0.0
    for context, angle, count, without in zip(contexts, sums, counts, bare, strict=True):
        missed = float(without[context.cast.struck == 0].sum())
        total += float(angle.sum(dtype=np.float64)) + BARE * missed
        pixels += _pixels([count]) + missed
    return total / max(pixels, FEW)


def wanted_heights(contexts: list[Context]) -> list[F32]:
    """How far off the low what looks best lies at every texel (H, W) of each sheet, scene units; NaN where nothing is.

    That is the nearest surface, unless what the bake struck or the outermost looks better.
    """
    candidates = [[made(context) for context in contexts] for made in (nearest_of, own_of, outermost_of)]
    images = [[one.image(c) for one, c in zip(each, contexts, strict=True)] for each in candidates]
    looks = as_seen(contexts, [Pictures(_padded(each, contexts)) for each in images], proof=True)
    heights = []
    for n in range(len(contexts)):
        taken = _taken([look.sums[n] for look in looks], looks[0].counts[n], candidates[0][n])
        heights.append(np.choose(taken, [each[n].heights for each in candidates]))
    return heights


def normals_of(context: Context) -> F32:
    """The tangent-space picture (H, W, 3) float32 of a sheet's cast, padded for reading between texels."""
    return padded(own_of(context).image(context), context)


def _padded(images: list[F32], contexts: list[Context]) -> list[AnyArray]:
    return [padded(image.copy(), context) for image, context in zip(images, contexts, strict=True)]


def _open(sums: F32, counts: F32, first: Candidate) -> U8:
    """Where (H, W) another picture could look better than the first by `FIRST`, however right it is."""
    tried = np.zeros(counts.shape, np.uint8)
    _find_open(sums, counts, first.heights, tried)  # type: ignore[call-arg]
    return tried


def _taken(sums: list[F32], counts: F32, first: Candidate) -> U8:
    """Which of three pictures looks best at each texel (H, W); that of `first` unless another is better by `FIRST`."""
    taken = np.zeros(counts.shape, np.uint8)
    _take(*sums, counts, first.heights, taken)  # type: ignore[call-arg]
    return taken


@kernel(parallel=True)
def _find_open(sums: F32, counts: F32, first: F32, tried: U8) -> None:
    """Where another picture could look better, by the window that `_take` looks through."""
    height, width = counts.shape
    for y in prange(height):
        for x in range(width):
            a = n = 0.0
            for j in range(max(y - AROUND, 0), min(y + AROUND + 1, height)):
                for i in range(max(x - AROUND, 0), min(x + AROUND + 1, width)):
                    n += counts[j, i]
                    a += sums[j, i]
            if np.isnan(first[y, x]) or (n > 0 and a > FIRST * n):
                tried[y, x] = 1


@kernel(parallel=True)
def _take(one: F32, two: F32, three: F32, counts: F32, first: F32, taken: U8) -> None:
    """Compare sums of degrees over the `AROUND` texels on each side."""
    height, width = counts.shape
    for y in prange(height):
        for x in range(width):
            a = b = c = n = 0.0
            for j in range(max(y - AROUND, 0), min(y + AROUND + 1, height)):
                for i in range(max(x - AROUND, 0), min(x + AROUND + 1, width)):
                    n += counts[j, i]
                    a += one[j, i]
                    b += two[j, i]
                    c += three[j, i]
            nothing = np.isnan(first[y, x])
            least = -NOTHING if nothing else FIRST
            if (n > 0 and min(b, c) < a - least * n) or (n == 0 and nothing):
                taken[y, x] = 1 if b <= c else 2


def _mean_of(seen: SeenSheets) -> float:
    degrees = sum(float(each.sum(dtype=np.float64)) for each in seen.sums)
    return degrees / max(_pixels(seen.counts), FEW)


def _pixels(counts: Iterable[F32]) -> float:
    return sum(float(count.sum(dtype=np.float64)) for count in counts)


def _outlines(pairs: list[AsSeen | None]) -> AnyArray:
    return np.array([figures.outline if figures else 1.0 for figures in pairs])
