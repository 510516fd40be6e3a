"""The one road from meshes and a recipe to maps, step by step."""

from dataclasses import replace
from functools import partial

import numpy as np

from .. import maps
from ..base.array_types import F32, I32, AnyArray
from ..base.disk_arrays import free_on_disk, room
from ..base.free_memory import free
from ..base.on_demand import fetch
from ..base.progress import Cancel, Progress
from ..cast.context import Context
from ..images import png
from ..images.exr import MOST_HALF, as_halves
from ..maps.displacement import displaced
from ..mending.after_cast import repaired
from ..piece.assembly import assemble
from ..piece.piece import Assembly, BakeMeshes
from ..piece.scene_cache import Warm
from ..piece.sculpt import Sculpt
from ..settings.recipe import Recipe
from ..uv.padding import pad
from .baked import Bake, BakedSheet
from .bands import RemoteBands
from .cast_and_gather import cast_and_gather
from .cast_cache import LaidOut, laid_out
from .expected_time import shares_of_stages
from .memory_estimate import needed, refuse_too_large
from .preview import Peek, Preview
from .refusals import refuse_unusable, warnings_after
from .stages import Stages

JUDGING = ("scipy.spatial", "scipy.sparse.csgraph")  # what judging needs is imported while rays are cast


def bake(
    recipe: Recipe,
    meshes: BakeMeshes,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
    peek: Peek | None = None,
    remote: RemoteBands | None = None,
) -> Bake:
    """Project the highs onto the lows of their pairs and derive the recipe's maps.

    `progress(stage, share)` is told the stage, "casting" with the layer at work, and the share of the whole done;
    `cancel()` is asked between pieces of at most about 80 ms and a true answer raises Cancelled. `warm` keeps the
    scenes for the next bake. `peek(key, sheet, image)` gets a small picture (H, W, C) uint8 of the map at work now and
    then, as far as it is. `remote` bands are cast and gathered by others, such as the workers of a cluster.
    Raises InputProblem where the meshes cannot be baked.
    """
    stages, warm = Stages(progress, cancel), warm or Warm()
    with stages.stage("checking"):
        assembly = assemble(recipe, meshes, warm)
        refuse_unusable(assembly, warm)
    stages.expect(shares_of_stages(assembly)[0])
    with stages.stage("scene"):
        sculpt = warm.sculpt(assembly, lambda share: stages.say("scene", share), to_bake=True)
    with stages.stage("preparing"):
        assembly = displaced(assembly, warm, stages.part_of("preparing", 0.0, 0.5))
        laid = laid_out(assembly, meshes, warm, stages.part_of("preparing", 0.5, 0.5))
        on_disk = _lies_on_disk(recipe, laid)
    fetch(*JUDGING)
    others = partial(remote.find, recipe, meshes, cancelled=cancel) if remote else None
    with stages.stage("casting"):
        cast_and_gather(
            laid,
            assembly,
            sculpt,
            warm,
            lambda layer, share: stages.tell(f"casting {layer}", share),
            cancel,
            on_disk,
            Preview(recipe, peek) if peek else None,
            others,
        )
    stages.seconds |= {f"casting {name}": spent for name, spent in laid.spent.items()}
    with stages.stage("maps"):
        sheets = _maps_of(laid, assembly, sculpt, warm, on_disk, stages)
    warnings = warnings_after(assembly, sculpt.mesh, [sheet.cast for sheet in sheets], laid.outside)
    progress("maps", 1.0)
    return Bake(assembly, laid.cage, sculpt, sheets, warnings, stages.seconds, warm, laid.spent_on)


def _lies_on_disk(recipe: Recipe, laid: LaidOut) -> bool:
    """Whether large arrays go to disk. Raises InputProblem where there is no room for what is still to be cast."""
    sizes = [(sheet.low.grid.width, sheet.low.grid.height) for sheet in laid.sheets]
    if any(sheet.cast is None for sheet in laid.sheets):
        refuse_too_large(recipe, sizes, free(), free_on_disk())
    return needed(recipe, sizes).disk > 0


def _maps_of(
    laid: LaidOut, assembly: Assembly, sculpt: Sculpt, warm: Warm, on_disk: bool, stages: Stages
) -> list[BakedSheet]:
    """Every sheet with its maps, after the mends that work on what the cast found."""
    sheets, each = list[BakedSheet](), 1 / len(laid.sheets)
    for n, sheet in enumerate(laid.sheets):
        layers = {key: layer.values for key, layer in sheet.layers.items()}
        rough = {key: layer.gathered for key, layer in sheet.layers.items()}
        context, layers = repaired(sheet.context(assembly, sculpt, warm), layers, rough, stages.cancelled)
        source, tell = sheet.padding(assembly.recipe), stages.part_of("maps", n * each, each)
        baked = BakedSheet(sheet.name, context, {}, {}, {})
        tell(0.0)
        keys = context.recipe.output.maps
        for done, key in enumerate(keys, 1):
            _derive(baked, key, layers, source, on_disk)
            tell(done / len(keys))
        sheets.append(baked)
    return sheets


def _derive(baked: BakedSheet, key: str, layers: dict[str, AnyArray], source: I32 | None, on_disk: bool) -> None:
    """Add one map to a sheet, padded and in whole steps, with what must be known to read it."""
    context, map_ = baked.context, maps.REGISTRY[key]
    form = context.recipe.output.form_of(key)
    derived = map_.derive(context, layers[map_.LAYER] if map_.LAYER else None)
    if form.exact:
        values = derived.image.copy() if derived.exact is None else derived.exact()
        empty = map_.BACKGROUND if derived.exact is None else (0.0,) * values.shape[2]
        half = form.depth == 16
        baked.exact[key] = room(values.shape, np.float16 if half else np.float32, on_disk)
        if half:
            beyond = int(np.count_nonzero((np.abs(values) > MOST_HALF).any(axis=2)))
            derived = replace(derived, facts=derived.facts | ({"beyond_half": beyond} if beyond else {}))
        padded = _padded(values, source, context, empty)
        baked.exact[key][...] = as_halves(padded) if half else padded
        del values, padded
    image = _padded(derived.image, source, context, map_.BACKGROUND)
    baked.images[key] = room(image.shape, np.uint8 if form.steps == 8 else np.uint16, on_disk)
    png.quantise(image, form.steps, _dithers(context.recipe, map_, form.steps), baked.images[key])
    baked.facts[key] = derived.facts


def _dithers(recipe: Recipe, map_: maps.Map, steps: int) -> bool:
    """Whether the rounding of a map is spread."""
    if recipe.basis.dither and isinstance(map_, maps.ReadsNormals):
        return True
    return recipe.output.dither and steps == 8 and map_.KEY not in maps.FLAT


def _padded(image: F32, source: I32 | None, context: Context, background: tuple[float, ...]) -> F32:
    if source is None:
        image[context.cast.covered == 0] = background
        return image
    pad(image, source)
    image[source < 0] = background
    return image
