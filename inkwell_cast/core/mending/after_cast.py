"""What works after the cast: soft decals, places taken from other settings, places filled in from their rim.

Both work on what the cast found, in object space and before any map is made, so all maps agree; the cast itself stays
as it was, and so do the bytes of everything outside the place.
"""

from itertools import groupby

from ..base.array_types import AnyArray
from ..base.progress import Cancel
from ..cast.context import Context
from ..maps import LAYERS
from ..maps.layer import finished
from .heal import healed
from .patch import patched, settings_of
from .soft_decals import softened


def repaired(
    context: Context, layers: dict[str, AnyArray], rough: dict[str, AnyArray], cancelled: Cancel
) -> tuple[Context, dict[str, AnyArray]]:
    """The ground and layers of a sheet with soft decals, then the recipe's patches, then its heals.

    `raws` are finished layers, `rough` the same before: patches are blended into those, and the whole is finished
    again. Raises Cancelled.
    """
    recipe = context.recipe
    if recipe.decals.soft:
        context = softened(context, rough["decals"], cancelled)
    mended = context
    for _, alike in groupby(recipe.patches, settings_of):
        mended, rough = patched(mended, rough, list(alike), cancelled)
    if mended is not context:
        layers = {}
        for key, values in rough.items():
            smooth = finished(mended, LAYERS[key], values, lambda share: None, cancelled)
            layers[key] = values if smooth is None else smooth
    for heal in recipe.heals:
        mended, layers = healed(mended, layers, heal)
    return mended, layers
