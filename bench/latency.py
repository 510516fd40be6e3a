"""What an artist waits for in the step Cage, warm, on a sculpt of a million triangles."""

import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from inkwell_cast.core.assembly import BakeMeshes, Warm, assemble
from inkwell_cast.core.coverage import coverage
from inkwell_cast.core.field import located_of
from inkwell_cast.core.fit import cage_of
from inkwell_cast.core.mesh import corner_positions
from inkwell_cast.core.recipe import Reach, Recipe
from inkwell_cast.core.section import section

from .shapes import sphere


def _seconds(work: Callable[[int], object], rounds: int) -> float:
    times = []
    for n in range(rounds):
        started = time.perf_counter()
        work(n)
        times.append(time.perf_counter() - started)
    return float(np.median(times))


def measure(rounds: int = 15) -> dict[str, float]:
    """Median seconds of a coverage after a move of the reach and of a section, and those of one fit."""
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
        "coverage_seconds": _seconds(cover, rounds), "section_seconds": _seconds(cut, rounds),
        "fit_seconds": fit_seconds, "fit_held": found.held,
        "fit_share_of_even": found.cage.mean_outward / found.needed[0],
    }  # fmt: skip
