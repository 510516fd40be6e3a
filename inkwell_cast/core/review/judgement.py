"""How a bake is judged: as seen, beside the best on this low, and texel by texel what it is worse by."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import Any_
from ..cast.context import Context
from ..flaws.visible import Visible
from ..maps.normal import encoded
from ..settings.recipe import PROOF_SIDE
from ..uv.padding import nearest_covered, pad
from .as_seen import AsSeen, Seen, as_seen, bare_pixels
from .best_on_low import PADDING, best_images
from .worn_pictures import Pictures


@dataclass(frozen=True, slots=True)
class Judgement:
    """What is seen of some pictures, of the best on this low, and what lies between, a `Visible` for each sheet."""

    seen: Seen
    best: Seen
    visible: list[Visible]

    @property
    def mean(self) -> float:
        """Degrees over all pixels, with all parts in place and with each pair alone."""
        return _mean_of(self.seen)

    @property
    def excess(self) -> float:
        """The same, above the best on this low."""
        return _mean_of(self.seen) - _mean_of(self.best)


def judgement(contexts: list[Context], pictures: Pictures | None = None) -> Judgement:
    """Judge the written pictures of normals, one a sheet, or those of the cast as they would be written unrounded.

    Raises Cancelled where the work is no longer wanted.
    """
    given = pictures or Pictures([normals_of(context) for context in contexts])
    proof = max(max(image.shape[:2]) for image in given.images) <= PROOF_SIDE
    seen, best = as_seen(contexts, [given, Pictures(best_images(contexts))], proof)
    bare = bare_pixels(contexts, given, proof)
    total, outline = int(sum(int(count.sum()) for count in seen.counts)), _outlines(seen.pairs)
    visible = [
        Visible(mine - theirs, mine, count, without, total, _mean_of(seen), outline)
        for mine, theirs, count, without in zip(seen.sums, best.sums, seen.counts, bare, strict=True)
    ]
    return Judgement(seen, best, visible)


def normals_of(context: Context) -> Any_:
    """The tangent-space picture (H, W, 3) float32 of a sheet's cast, padded for reading between texels."""
    cast = context.cast
    image = encoded(cast, context.low, context.recipe.basis, cast.normal, (cast.struck > 0).astype(np.uint8))
    source: Any_ = nearest_covered(cast.covered, PADDING)
    pad(image, source)
    return image


def _mean_of(seen: Seen) -> float:
    degrees = sum(float(each.sum(dtype=np.float64)) for each in seen.sums)
    return degrees / max(sum(int(count.sum()) for count in seen.counts), 1)


def _outlines(pairs: list[AsSeen | None]) -> Any_:
    return np.array([figures.outline if figures else 1.0 for figures in pairs])
