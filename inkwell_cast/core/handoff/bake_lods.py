"""Layers of detail: one sculpt baked to several lows, and how each is seen at the distances where it is used.

A low's level stands in its name or its file's, such as `crate_LOD1_low`; what has none, such as the sculpt, belongs to
all. Each level has a cage and a sheet of its own, or wears the maps of the first where they share their UVs.
"""

import pathlib
from dataclasses import dataclass

from pydantic import BaseModel

from ..bake.baked import Bake
from ..bake.manifest import MeshFile
from ..bake.pipeline import bake
from ..bake.saving import save
from ..base.errors import InputProblem
from ..base.progress import Cancel, Progress
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..review.from_afar import differs_from_afar
from ..review.lit_pictures import lit_low, lit_sculpt
from ..review.worn_pictures import Pictures
from ..settings.editing import at_lod
from ..settings.lods import lods_in
from ..settings.recipe import Recipe
from .judge_map import bring_in


class LodFacts(BaseModel):
    """A level: its triangles, how it is seen in degrees (mean, and the best on it), and how it differs from the sculpt.

    differs are by how many pixels high the piece is drawn: the root mean square of lit pictures from four sides, in
    shares of white. worn says whose maps it wears.
    """

    level: int
    triangles: int
    seen: float
    best: float
    differs: dict[int, float]
    worn: int


@dataclass(frozen=True, slots=True)
class LodBake:
    """A level, its bake, and what is known of it."""

    bake: Bake
    facts: LodFacts


def lods_of(meshes: BakeMeshes) -> list[int]:
    """The levels of some meshes, the finest first. Raises InputProblem where no name says one."""
    levels = lods_in((name, part) for name, mesh, _ in meshes.distinct() for part in mesh.object_names)
    if not levels:
        raise InputProblem("The lows", "No name says a level.", "Call them such as crate_LOD0_low and crate_LOD1_low.")
    return levels


def bake_lods(
    recipe: Recipe,
    meshes: BakeMeshes,
    share: bool = False,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
) -> list[LodBake]:
    """Bake every level with the same settings, or with `share` let the others wear the maps of the first.

    Raises InputProblem for names without levels, and as `bake` does; Cancelled.
    """
    if "normal" not in recipe.output.maps and "normal_object" not in recipe.output.maps:
        raise InputProblem("The levels", "Without a map of normals nobody sees them differ.", "Bake the normal map.")
    warm, levels, made = warm or Warm(), lods_of(meshes), list[LodBake]()
    for n, level in enumerate(levels):
        own = at_lod(recipe, str(level))

        def tell(stage: str, part: float, before: int = n, name: int = level) -> None:
            progress(f"level {name}: {stage}", (before + part) / len(levels))

        if share and made:
            images = [sheet.images[_normals(recipe)] for sheet in made[0].bake.sheets]
            reading = None if _normals(recipe) == "normal_object" else recipe.basis
            brought = bring_in(own, meshes, images, reading, tell, cancel, warm)
            done, seen = brought.bake, brought.judgement.seen.whole
            best = brought.judgement.best.whole
        else:
            done = bake(own, meshes, tell, cancel, warm)
            judged = done.judgement(_pictures(done, recipe))
            seen, best = judged.seen.whole, judged.best.whole
        facts = LodFacts(
            level=level,
            triangles=len(done.assembly.low.triangles),
            seen=seen.mean if seen else float("nan"),
            best=best.mean if best else float("nan"),
            differs=_differs(done, _pictures(done, recipe)),
            worn=made[0].facts.level if share and made else level,
        )
        made.append(LodBake(done, facts))
    return made


def save_lods(made: list[LodBake], folder: pathlib.Path, sources: list[MeshFile]) -> None:
    """Write each level's own maps into a folder of its name, and levels.json beside them."""
    for own in made:
        if own.facts.worn == own.facts.level:
            place = folder / f"lod{own.facts.level}"
            save(own.bake, place, sources, place)
    rows = "[" + ",\n ".join(own.facts.model_dump_json() for own in made) + "]\n"
    (folder / "levels.json").write_text(rows, encoding="utf-8")


def _normals(recipe: Recipe) -> str:
    return "normal" if "normal" in recipe.output.maps else "normal_object"


def _pictures(done: Bake, recipe: Recipe) -> Pictures:
    """The normals of a bake as they were stored."""
    key = next(key for key in ("normal", "normal_object") if key in done.sheets[0].images)
    return Pictures([sheet.images[key] for sheet in done.sheets], key == "normal_object")


def _differs(done: Bake, pictures: Pictures) -> dict[int, float]:
    contexts = [sheet.context for sheet in done.sheets]
    return differs_from_afar(lit_sculpt(done.assembly, done.sculpt, done.warm), lit_low(contexts, pictures)[0])
