"""Judging a normal map made elsewhere for a low: how it is seen, beside the best that projection could give there."""

from typing import Any

import numpy as np
from pydantic import BaseModel

from ..bake.manifest import SeenFacts
from ..bake.pipeline import bake
from ..bake.refusals import refuse_unusable
from ..bake.stages import Progress
from ..base.errors import InputProblem
from ..images.png import dequantise
from ..piece.assembly import assemble
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..review.as_seen import as_seen
from ..review.judgement import Judgement, judgement, small
from ..review.worn_pictures import Pictures
from ..settings.basis import Basis
from ..settings.recipe import Recipe
from ..settings.sheet import Size
from ..uv.layout import lay_out_sheets

NORMAL = (0.5, 1.5)  # lengths of what may be a unit normal, rounded
MOSTLY = 0.5  # of the covered texels must hold normals, else the picture is something else


class Judged(BaseModel):
    """A map as seen: `reading` in words, and the mean in degrees of every reading that was tried.

    missed is the share of the covered texels that hold no normal; beyond says which limits are passed, if any are set.
    """

    seen: SeenFacts
    pairs: dict[str, SeenFacts]
    reading: str
    readings: dict[str, float]
    missed: float
    beyond: list[str] = []


def judge(
    recipe: Recipe, meshes: BakeMeshes, images: list[Any], reading: Basis | str | None = "any",
    progress: Progress = lambda stage, share: None,
) -> Judged:  # fmt: skip
    """Judge pictures (H, W, 3), one a sheet in their order, as the normal map of a piece's low.

    `reading` is the basis that they are in, None for object space, or "any" for the one of the recipe with either
    green, or object space, whichever is seen best. Raises InputProblem where the pictures do not fit the sheets, hold
    no normals, or nothing of them can be seen.
    """
    warm, basis = Warm(), reading if isinstance(reading, Basis) else recipe.basis
    recipe = _fitting(recipe, meshes, images, warm).model_copy(update={"basis": basis})
    done = bake(recipe, meshes, progress, warm=warm)
    contexts = [sheet.context for sheet in done.sheets]
    missed = _missed(images, [context.cast.covered > 0 for context in contexts])
    tried = _readings(images, basis, reading)
    looks = as_seen(contexts, list(tried.values()), small(Pictures(images)))
    means = {name: look.whole.mean for name, look in zip(tried, looks, strict=True) if look.whole}
    if not means:
        raise InputProblem("The map", "Low and sculpt are seen nowhere together.", "Check how they stand.")
    chosen = min(means, key=means.__getitem__)
    names = [pair.name for pair in done.assembly.paired.pairs]
    return _judged(judgement(contexts, tried[chosen], foreign=True), names, chosen, means, missed)


def _judged(found: Judgement, names: list[str], reading: str, means: dict[str, float], missed: float) -> Judged:
    seen, best = found.seen, found.best
    whole = SeenFacts.of(seen.whole, best.whole, seen.never_seen)
    assert whole is not None  # the caller has seen it
    facts = [SeenFacts.of(*both) for both in zip(seen.pairs, best.pairs, strict=True)]
    pairs = {name: each for name, each in zip(names, facts, strict=True) if each}
    return Judged(seen=whole, pairs=pairs, reading=reading, readings=means, missed=missed)


def _fitting(recipe: Recipe, meshes: BakeMeshes, images: list[Any], warm: Warm) -> Recipe:
    """The recipe with sheets as large as the pictures, and a bake's normals alone."""
    assembly = assemble(recipe, meshes, warm)
    refuse_unusable(assembly)
    plans = lay_out_sheets(recipe, assembly.low).sheets
    if len(plans) != len(images):
        names = ", ".join(plan.name or "the only one" for plan in plans)
        raise InputProblem(
            "The map", f"There are {len(images)} pictures for {len(plans)} sheets ({names}).",
            "Give one for each sheet, in this order.",
        )  # fmt: skip
    sizes = [image.shape[1::-1] for image in images]
    for plan, (width, height) in zip(plans, sizes, strict=True):
        if min(width, height) < 16:
            raise InputProblem("The map", f"It has {width} × {height} texels.", "Give one of 16 or more on a side.")
        size = Size(width=width, height=height)
        recipe = recipe.model_copy(update={"sizes": recipe.sizes | {plan.name: size}})
    sheet = recipe.sheet.model_copy(update={"width": sizes[0][0], "height": sizes[0][1]})
    output = recipe.output.model_copy(update={"maps": ["normal"]})
    return recipe.model_copy(update={"sheet": sheet, "output": output})


def _readings(images: list[Any], basis: Basis, reading: Basis | str | None) -> dict[str, Pictures]:
    """Pictures by the words of how they are read; the contexts' basis is `basis`."""
    if reading is None:
        return {"object space": Pictures(images, object_space=True)}
    other = "down" if basis.green == "up" else "up"
    given = {f"tangent space, green {basis.green}": Pictures(images)}
    if isinstance(reading, Basis):
        return given
    given[f"tangent space, green {other}"] = Pictures([_turned(image) for image in images])
    return given | {"object space": Pictures(images, object_space=True)}


def _turned(image: Any) -> Any:
    """A picture with its green the other way."""
    most = np.iinfo(image.dtype).max if image.dtype.kind == "u" else 1
    turned = image.copy()
    turned[..., 1] = most - image[..., 1]
    return turned


def _missed(images: list[Any], covered: list[Any]) -> float:
    """The share of the covered texels that hold no normal. Raises InputProblem where most hold none."""
    empty, least, most = 0, *NORMAL
    for image, on in zip(images, covered, strict=True):
        values = image[..., :3][on]
        values = values if image.dtype.kind == "f" else dequantise(values)
        length = np.linalg.norm(2 * values.astype(np.float32) - 1, axis=-1)
        empty += int(((length < least) | (length > most) | ~np.isfinite(length)).sum())
    total = sum(int(on.sum()) for on in covered)
    if empty > (1 - MOSTLY) * max(total, 1):
        raise InputProblem(
            "The map", f"{empty / total:.0%} of the texels under the low hold no normal (a length far from 1).",
            "Give a normal map of this low, as it was written.",
        )  # fmt: skip
    return empty / max(total, 1)
