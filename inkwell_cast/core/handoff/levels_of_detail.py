"""Layers of detail: one sculpt baked to several lows, and how each is seen at the distances where it is used.

A low's level stands in its name or its file's, such as `crate_LOD1_low`; what has none, such as the sculpt, belongs to
all. Each level has a cage and a sheet of its own, or wears the maps of the first where they share their UVs.
"""

import pathlib
import re
from dataclasses import dataclass, replace

import cv2
import numpy as np
from pydantic import BaseModel

from ..bake.baked import Bake
from ..bake.manifest import MeshFile
from ..bake.pipeline import bake
from ..bake.saving import save
from ..bake.stages import Cancel, Progress
from ..base.array_types import F64, U8
from ..base.errors import InputProblem
from ..mesh.mesh import Mesh
from ..piece.piece import BakeMeshes, take
from ..piece.scene_cache import Warm
from ..review.lit_pictures import SIDE, lit_low, lit_sculpt
from ..review.worn_pictures import Pictures
from ..settings.recipe import Recipe
from .judge_map import bring_in

MARK = re.compile(r"[_. -]?lod[_ -]?(\d{1,2})(?!\d)", re.IGNORECASE)
DISTANCES = (256, 128, 64, 32)  # pixels that the piece is high on the screen


class LevelFacts(BaseModel):
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
class LevelBake:
    """A level, its bake, and what is known of it."""

    bake: Bake
    facts: LevelFacts


def level_of(name: str) -> tuple[int | None, str]:
    """The level that a name says, None for none, and the name without it."""
    found = MARK.search(name)
    return (int(found[1]), name[: found.start()] + name[found.end() :]) if found else (None, name)


def by_level(meshes: BakeMeshes) -> dict[int, BakeMeshes]:
    """The meshes of each level, the finest first. Raises InputProblem where no name says one."""
    every = [*meshes.lows, *meshes.highs, *meshes.named, *meshes.cages]
    levels = sorted({level for mesh in every for level in _levels(mesh) if level is not None})
    if not levels:
        raise InputProblem("The lows", "No name says a level.", "Call them such as crate_LOD0_low and crate_LOD1_low.")
    groups = (meshes.lows, meshes.highs, meshes.named, meshes.cages)
    return {
        level: BakeMeshes(*[[part for mesh in group if (part := _at(mesh, level))] for group in groups])
        for level in levels
    }


def _levels(mesh: Mesh) -> list[int | None]:
    """The level of each object of a mesh: by its own name, else by the file's."""
    of_file = level_of(mesh.name)[0]
    return [of_file if (own := level_of(name)[0]) is None else own for name in mesh.object_names]


def _at(mesh: Mesh, level: int) -> Mesh | None:
    """What a mesh has for a level, under names without it; the mesh itself where it has none of any."""
    levels = _levels(mesh)
    if all(own is None for own in levels):
        return mesh
    names = tuple(name for name, own in zip(mesh.object_names, levels, strict=True) if own in (level, None))
    if not names:
        return None
    part = take(mesh, names)
    return replace(
        part, name=level_of(mesh.name)[1], object_names=tuple(level_of(name)[1] for name in part.object_names)
    )


def bake_levels(
    recipe: Recipe, meshes: BakeMeshes, share: bool = False, progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False, warm: Warm | None = None,
) -> list[LevelBake]:  # fmt: skip
    """Bake every level with the same settings, or with `share` let the others wear the maps of the first.

    Raises InputProblem for names without levels, and as `bake` does; Cancelled.
    """
    if "normal" not in recipe.output.maps and "normal_object" not in recipe.output.maps:
        raise InputProblem("The levels", "Without a map of normals nobody sees them differ.", "Bake the normal map.")
    warm, levels, made = warm or Warm(), by_level(meshes), list[LevelBake]()
    for n, (level, own) in enumerate(levels.items()):

        def tell(stage: str, part: float, before: int = n, name: int = level) -> None:
            progress(f"level {name}: {stage}", (before + part) / len(levels))

        if share and made:
            images = [sheet.images[_normals(recipe)] for sheet in made[0].bake.sheets]
            reading = None if _normals(recipe) == "normal_object" else recipe.basis
            brought = bring_in(recipe, own, images, reading, tell, cancel, warm)
            done, seen = brought.bake, brought.judgement.seen.whole
            best = brought.judgement.best.whole
        else:
            done = bake(recipe, own, tell, cancel, warm)
            judged = done.judgement(_pictures(done, recipe))
            seen, best = judged.seen.whole, judged.best.whole
        facts = LevelFacts(
            level=level, triangles=len(done.assembly.low.triangles), seen=seen.mean if seen else float("nan"),
            best=best.mean if best else float("nan"), differs=_differs(done, _pictures(done, recipe)),
            worn=made[0].facts.level if share and made else level,
        )  # fmt: skip
        made.append(LevelBake(done, facts))
    return made


def save_levels(made: list[LevelBake], folder: pathlib.Path, sources: list[MeshFile]) -> None:
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
    """How much the lit low differs from the lit sculpt, by pixels; what both leave empty counts nothing."""
    contexts = [sheet.context for sheet in done.sheets]
    sculpt, low = lit_sculpt(done.assembly, done.sculpt, done.warm), lit_low(contexts, pictures)[0]
    found = {}
    for pixels in DISTANCES:
        one, other = _drawn(sculpt, pixels), _drawn(low, pixels)
        there = (one[..., 3] + other[..., 3]) > 0
        off = (one[..., :3] - other[..., :3])[there]
        found[pixels] = float(np.sqrt((off * off).mean())) if len(off) else 0.0
    return found


def _drawn(strip: U8, pixels: int) -> F64:
    """A strip as large as it is drawn, its light times its cover, 0 to 1."""
    light = strip.astype(np.float64) / 255
    light[..., :3] *= light[..., 3:]
    height, width = strip.shape[:2]
    size = max(1, width * pixels // SIDE), max(1, height * pixels // SIDE)
    return np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float64)
