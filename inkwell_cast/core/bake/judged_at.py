"""Where a bake is judged: on sheets of at most `SIDE` texels, beside the best on its low, both cast anew.

What a viewer sees of a piece does not grow with its sheets, nor do the pixels that judge it. So best on this low, what
places are worse by and the causes of flaws are found at this size; how the written pictures look is read from them.
The best belongs to low and sculpt alone: it starts from a plain reach, whatever the bake has.
"""

from dataclasses import replace

from ..cast.context import Context
from ..mending.after_cast import repaired
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..review.judgement import Best, best_of
from ..settings.recipe import PROOF_SIDE, Recipe
from .cast_and_gather import cast_and_gather
from .cast_cache import laid_out_alone

SIDE = 1024  # texels
PLAIN = 5.0  # per cent of the low's diagonal: with 1.5 to 10 the best differed by under 0.01 degrees on real pieces
OF_FULL, OF_PROOF = Slot[Best](), Slot[Best]()


def side_of(recipe: Recipe) -> int:
    """The largest side of the sheets that a bake is judged on, in texels."""
    return PROOF_SIDE if recipe.limits.judge == "proof" else SIDE


def judged_at(assembly: Assembly, sculpt: Sculpt, warm: Warm, contexts: list[Context]) -> list[Context]:
    """Contexts to judge those of a bake by, one a sheet: the same, or smaller ones where a sheet is larger than that.

    Raises Cancelled where the work is no longer wanted.
    """
    if max(max(context.cast.covered.shape) for context in contexts) <= side_of(assembly.recipe):
        return contexts
    return _cast(assembly, assembly.recipe, sculpt, warm)


def best_on_low(assembly: Assembly, sculpt: Sculpt, warm: Warm, proof: bool) -> Best:
    """The best on the low of a piece, computed once for low, sculpt and sheets; `proof` looks from fewer directions.

    Raises Cancelled where the work is no longer wanted.
    """
    plain = replace(assembly, recipe=assembly.recipe.with_plain_rays(PLAIN), cages=[None] * len(assembly.cages))
    recipe = plain.recipe.at_most(side_of(plain.recipe))
    members = [(pair.name, role, part.key) for pair in plain.paired.pairs for role, part in pair.members]
    settings = [recipe.sheet, recipe.sizes, recipe.basis, recipe.decals, recipe.normals]
    key = f"{plain.digest()} {sculpt.serial} {members} {settings}"
    slot = OF_PROOF if proof else OF_FULL
    return warm.once(slot, key, lambda: best_of(_cast(plain, plain.recipe, sculpt, warm), proof))


def _cast(assembly: Assembly, recipe: Recipe, sculpt: Sculpt, warm: Warm) -> list[Context]:
    """A cast on small sheets; where those are smaller than the recipe's with one sample, the same for bake and best."""
    judged = recipe.at_most(side_of(recipe)).with_maps("normal")
    if (judged.sheet.width, judged.sheet.height, judged.sizes) != (
        recipe.sheet.width,
        recipe.sheet.height,
        recipe.sizes,
    ):
        judged = judged.model_copy(update={"sheet": judged.sheet.model_copy(update={"samples": 1})})
    small = replace(assembly, recipe=judged)
    laid = laid_out_alone(small, warm)
    cast_and_gather(laid, small, sculpt, warm, lambda layer, share: None, warm.stopped)
    contexts = []
    for sheet in laid.sheets:
        rough = {key: layer.gathered for key, layer in sheet.layers.items()}
        layers = {key: layer.values for key, layer in sheet.layers.items()}
        contexts.append(repaired(sheet.context(small, sculpt, warm), layers, rough, warm.stopped)[0])
    return contexts
