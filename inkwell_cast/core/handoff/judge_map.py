"""Judging a normal map made elsewhere for a low: how it is seen, beside the best that projection could give there."""

import pathlib
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from pydantic import BaseModel

from ..bake.baked import Bake, BakedSheet
from ..bake.bands import RemoteBands
from ..bake.manifest import Manifest, MeshFile, SeenFacts
from ..bake.pipeline import bake
from ..bake.refusals import refuse_unusable
from ..bake.saving import save
from ..base.errors import InputProblem
from ..base.progress import Cancel, Progress
from ..flaws import Flaw
from ..images import png
from ..images.png import dequantise
from ..piece.assembly import assemble
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..review.as_seen import as_seen
from ..review.judgement import Judgement, small
from ..review.worn_pictures import Pictures
from ..settings.basis import Basis
from ..settings.limits import beyond
from ..settings.recipe import Recipe
from ..settings.sheet import Size
from ..uv.layout import lay_out_sheets

ANY, THE_MAP = "any", "The map"  # a reading; where an InputProblem lies that names no file
NORMAL = (0.5, 1.5)  # lengths of what may be a unit normal, rounded
MOSTLY = 0.5  # of the covered texels must hold normals, else the picture is something else


class Judged(BaseModel):
    """A map as seen: `reading` in words, and the mean in degrees of every reading that was tried.

    missed is the share of the covered texels that hold no normal; flaws are the regions that look wrong, the worst
    first; beyond says which limits are passed, if any are set.
    """

    seen: SeenFacts
    pairs: dict[str, SeenFacts]
    reading: str
    readings: dict[str, float]
    missed: float
    flaws: list[Flaw] = []
    beyond: list[str] = []


@dataclass(frozen=True, slots=True)
class Brought:
    """A map that was brought in: as the images of a bake whose casts are what could have been, and how it is seen."""

    bake: Bake
    judgement: Judgement
    readings: dict[str, float]

    @property
    def judged(self) -> Judged:
        seen, best, bake = self.judgement.seen, self.judgement.best, self.bake
        whole = SeenFacts.of(seen.whole, best.whole, seen.never_seen)
        assert whole is not None  # else no reading could have been chosen
        facts = [SeenFacts.of(*both) for both in zip(seen.pairs, best.pairs, strict=True)]
        names = [pair.name for pair in bake.assembly.paired.pairs]
        missed = sum(sheet.missed for sheet in bake.sheets) / max(sum(sheet.cast.texels for sheet in bake.sheets), 1)
        said = beyond(bake.assembly.given.limits.by_name, whole.bake.figures(whole.excess, missed))
        return Judged(
            seen=whole,
            pairs={name: each for name, each in zip(names, facts, strict=True) if each},
            reading=bake.brought,
            readings=self.readings,
            missed=missed,
            flaws=bake.flaws(self.judgement).flaws,
            beyond=said,
        )

    def save(self, folder: str | pathlib.Path, sources: list[MeshFile] | None = None) -> Manifest:
        """Write it as a bake into a folder: its pictures as they were read, heat, lit pictures and manifest.json."""
        return save(self.bake, folder, sources, folder, judged=self.judgement)


def bring_in(
    recipe: Recipe,
    meshes: BakeMeshes,
    images: list[Any],
    reading: Basis | str | None = ANY,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
    remote: RemoteBands | None = None,
) -> Brought:
    """Bring in pictures (H, W, 3), one a sheet in their order, as the normal map of a piece's low.

    `reading` is the basis that they are in, None for object space, or ANY for the one of the recipe with either green,
    or object space, whichever is seen best. `remote` bands are cast by others. Raises InputProblem
    where the pictures do not fit the sheets, hold no normals, or nothing of them can be seen; Cancelled.
    """
    warm, basis = warm or Warm(), reading if isinstance(reading, Basis) else recipe.basis
    images = [image[..., :3] for image in images]
    recipe = _fitting(recipe, meshes, images, warm).model_copy(update={"basis": basis})
    done = bake(recipe, meshes, progress, cancel, warm, remote=remote)
    contexts = [sheet.context for sheet in done.sheets]
    empty = _empty(images, [context.cast.covered > 0 for context in contexts])
    tried = _readings(images, basis, reading)
    progress("looking", 0.9)
    looks = as_seen(contexts, list(tried.values()), small(Pictures(images)))
    means = {name: look.whole.mean for name, look in zip(tried, looks, strict=True) if look.whole}
    if not means:
        raise InputProblem(THE_MAP, "Low and sculpt are seen nowhere together.", "Check how they stand.")
    chosen = min(means, key=means.__getitem__)
    brought = _as_bake(done, tried[chosen], empty, chosen)
    return Brought(brought, brought.judgement(tried[chosen]), means)


def judge(
    recipe: Recipe,
    meshes: BakeMeshes,
    images: list[Any],
    reading: Basis | str | None = ANY,
    progress: Progress = lambda stage, share: None,
) -> Judged:
    """How pictures are seen as the normal map of a piece's low; see `bring_in`."""
    return bring_in(recipe, meshes, images, reading, progress).judged


def _as_bake(done: Bake, pictures: Pictures, empty: list[int], reading: str) -> Bake:
    """A bake of the same casts with pictures that were made elsewhere."""
    key, sheets = "normal_object" if pictures.object_space else "normal", []
    whole = pictures.images[0].dtype == np.uint8
    output = done.assembly.given.output.model_copy(
        update={"maps": [key], "format": "png", "depth": 8 if whole else 16, "own": {}}
    )
    given, mended_recipe = (r.model_copy(update={"output": output}) for r in (done.assembly.given, done.recipe))
    assembly = replace(done.assembly, given=given, recipe=mended_recipe)
    for sheet, image, count in zip(done.sheets, pictures.images, empty, strict=True):
        steps = image if image.dtype.kind == "u" else png.quantise(np.ascontiguousarray(image, np.float32), 16)
        context = replace(sheet.context, assembly=assembly)
        sheets.append(BakedSheet(sheet.name, context, {key: steps}, {key: {}}, {}, count))
    return replace(done, assembly=assembly, sheets=sheets, brought=reading, warnings=[])


def _fitting(recipe: Recipe, meshes: BakeMeshes, images: list[Any], warm: Warm) -> Recipe:
    """The recipe with sheets as large as the pictures, and a bake's normals alone."""
    assembly = assemble(recipe, meshes, warm)
    refuse_unusable(assembly, warm)
    plans = lay_out_sheets(recipe, assembly.low).sheets
    if len(plans) != len(images):
        names = ", ".join(plan.name or "the only one" for plan in plans)
        raise InputProblem(
            THE_MAP,
            f"There are {len(images)} pictures for {len(plans)} sheets ({names}).",
            "Give one for each sheet, in this order.",
        )
    sizes = [image.shape[1::-1] for image in images]
    for plan, (width, height) in zip(plans, sizes, strict=True):
        if min(width, height) < 16:
            raise InputProblem(THE_MAP, f"It has {width} × {height} texels.", "Give one of 16 or more on a side.")
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


def _empty(images: list[Any], covered: list[Any]) -> list[int]:
    """How many of the covered texels of each hold no normal. Raises InputProblem where most hold none."""
    empty, least, most = [], *NORMAL
    for image, on in zip(images, covered, strict=True):
        values = image[on]
        values = values if image.dtype.kind == "f" else dequantise(values)
        length = np.linalg.norm(2 * values.astype(np.float32) - 1, axis=-1)
        empty.append(int(((length < least) | (length > most) | ~np.isfinite(length)).sum()))
    share = sum(empty) / max(sum(int(on.sum()) for on in covered), 1)
    if share > 1 - MOSTLY:
        raise InputProblem(
            THE_MAP,
            f"{share:.0%} of the texels under the low hold no normal (a length far from 1).",
            "Give a normal map of this low, as it was written.",
        )
    return empty
