"""What an artist waits for in the steps Cage and Review, warm, on a sculpt of a million triangles."""

import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from inkwell_cast.core.bake.cast_cache import laid_out
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.cage.coverage import coverage
from inkwell_cast.core.cage.fit import cage_of
from inkwell_cast.core.cage.inverse_rays import located_of
from inkwell_cast.core.mesh.mesh import corner_positions
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review.section import section
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Stroke
from inkwell_cast.core.settings.sheet import Sheet

from .shapes import sphere


def _seconds(work: Callable[[int], object], rounds: int) -> float:
    times = []
    for n in range(rounds):
        started = time.perf_counter()
        work(n)
        times.append(time.perf_counter() - started)
    return float(np.median(times))


def measure(rounds: int = 15) -> dict[str, float]:
    """Median seconds of a coverage after a move of the reach, of a section and of a mend, and those of one fit."""
    meshes = BakeMeshes([sphere(60)], [replace(sphere(1000, 0.02, uvs=False), name="high", object_names=("high",))])
    warm = Warm()

    def recipe(outward: float, shape: str = "even") -> Recipe:
        return Recipe(reach=Reach.model_validate({"outward": outward, "inward": 2, "shape": shape}))

    def cover(n: int) -> object:
        assembly = assemble(recipe(1.0 + n / 50), meshes, warm)
        return coverage(assembly, warm.sculpt(assembly), cage_of(assembly, warm), located_of(assembly, warm))

    cover(0)
    assembly = assemble(recipe(2.0), meshes, warm)
    cage, points = cage_of(assembly, warm), corner_positions(assembly.low)

    def cut(n: int) -> object:
        x, y, z = points[50 * n + 9].mean(axis=0).tolist()
        return section(assembly, warm.sculpt(assembly), cage, 50 * n + 9, (x, y, z))

    cut(0)
    fitted = assemble(recipe(1.0, "fitted"), meshes, warm)
    started = time.perf_counter()
    found = coverage(fitted, warm.sculpt(fitted), cage_of(fitted, warm), located_of(fitted, warm))
    fit_seconds = time.perf_counter() - started
    return {
        **_mend(meshes, warm),
        "coverage_seconds": _seconds(cover, rounds),
        "section_seconds": _seconds(cut, rounds),
        "fit_seconds": fit_seconds,
        "fit_held": found.held,
        "fit_share_of_even": found.cage.mean_outward / found.needed[0],
    }


def _mend(meshes: BakeMeshes, warm: Warm, rounds: int = 5) -> dict[str, float]:
    """Seconds of a bake of normals and occlusion at 1024 by 1024 after one stroke, and the share of tiles it casts."""

    def recipe(strokes: list[Stroke]) -> Recipe:
        return Recipe(
            sheet=Sheet(width=1024, height=1024, samples=4),
            output=Output(maps=["normal", "occlusion"]),
            occlusion=Occlusion(rays=16),
            nudges=strokes,
        )

    started = time.perf_counter()
    whole = bake(recipe([]), meshes, warm=warm)
    first = time.perf_counter() - started
    strokes = list[Stroke]()
    points = corner_positions(assemble(recipe([]), meshes, warm).low)

    def mend(n: int) -> None:
        x, y, z = points[400 * n + 900].mean(axis=0).tolist()
        strokes.append(Stroke(points=[(x, y, z)], radius=0.1, amount=0.02))
        bake(recipe(strokes), meshes, warm=warm)

    mend(-1)
    seconds = _seconds(mend, rounds)
    cast = laid_out(assemble(recipe(strokes), meshes, warm), meshes, warm).recast
    share = cast / len(whole.low.grid.busy_tiles)
    return {"mend_seconds": seconds, "mend_over_whole": seconds / first, "mend_share": share}
