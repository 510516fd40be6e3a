"""Judging a bake, over the time of its cast: as seen, beside the best on this low, flaws; a proof, and Measure."""

import pathlib
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from inkwell_cast.core.bake.baked import Bake
from inkwell_cast.core.bake.judged_at import OF_FULL
from inkwell_cast.core.bake.measured_reach import measure as measure_reach
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.cage.fit import cage_of
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review.as_seen import as_seen
from inkwell_cast.core.review.judgement import normals_of
from inkwell_cast.core.review.pictures_around import KEPT
from inkwell_cast.core.review.worn_pictures import Pictures
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from .scale import run
from .shapes import sphere

REACH = Reach(outward=3, inward=3)


def measure(rounds: int = 3) -> dict[str, Any]:
    """Seconds, the best of several, on a high of a million triangles: a 2048² bake of 4 samples, and a proof of it."""
    meshes = BakeMeshes([sphere(60)], [replace(sphere(1000, 0.02, uvs=False), name="high", object_names=("high",))])
    large = Recipe(reach=REACH, sheet=Sheet(width=2048, height=2048, samples=4))
    warm = Warm()
    made = bake(large, meshes, warm=warm)
    pictures = Pictures([normals_of(sheet.context) for sheet in made.sheets])
    contexts = [sheet.context for sheet in made.sheets]
    judged = made.judgement(pictures)
    looking = {
        "seen_seconds": lambda: as_seen(contexts, [pictures]),
        "judge_seconds": lambda: _judged_anew(made, pictures),
        "judge_again_seconds": lambda: made.judgement(pictures),
        "flaws_seconds": lambda: made.flaws(judged),
    }
    found: dict[str, Any] = {"cast_seconds": _cast_seconds(large, meshes, rounds)}
    for name, look in looking.items():
        found[name] = _best(look, warm, rounds)
        found[name.replace("seconds", "over_cast")] = found[name] / found["cast_seconds"]
    found["proof_seconds"] = _proof_seconds(large.proof(), meshes, rounds)
    found["measure_seconds"] = _best(lambda: measure_reach(large, meshes, warm=warm), Warm(), rounds)
    found["fit_seconds"] = _fit_seconds(large, meshes, warm, rounds)
    return found


def measure_large(triangles: int = 20_000_000) -> Any:
    """What looking costs for a sculpt of five million triangles, in a process of its own."""
    return run(_LARGE, str(triangles))


_LARGE = """
import json, resource, sys
from dataclasses import replace
from bench.looking import *
from bench.looking import _fit_seconds, _proof_seconds, _timed
high = replace(sphere(int(int(sys.argv[1]) ** 0.5), 0.02, uvs=False), name="high", object_names=("high",))
meshes = BakeMeshes([sphere(60)], [high])
recipe = Recipe(reach=REACH, sheet=Sheet(width=2048, height=2048, samples=4)).proof()
warm = Warm()
made = bake(recipe, meshes, warm=warm)
with tempfile.TemporaryDirectory() as folder:
    first = save(made, folder, previews=pathlib.Path(folder)).seconds
found = {"triangles": len(high.triangles), "first_seconds": first, "flaws": len(made.flaws().flaws)}
found["proof_seconds"] = _proof_seconds(recipe, meshes, 1, warm)
found["measure_seconds"] = min(_timed(lambda: measure_reach(recipe, meshes, warm=warm)) for _ in range(2))
found["fit_seconds"] = _fit_seconds(recipe, meshes, warm, 1)
found["peak_gigabytes"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 / 1e9
print(json.dumps(found))
"""


def _judged_anew(made: Bake, pictures: Pictures) -> None:
    """Judge it, the best on its low found anew."""
    made.warm.drop(OF_FULL)
    made.judgement(pictures)


def _timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def _fit_seconds(recipe: Recipe, meshes: BakeMeshes, warm: Warm, rounds: int) -> float:
    """Of fitting alone, the sculpt located before; another clearance fits anew."""
    seconds = []
    for n in range(rounds + 1):
        reach = recipe.reach.model_copy(update={"shape": "fitted", "clearance": 0.05 + 0.001 * n})
        fitted = assemble(recipe.model_copy(update={"reach": reach}), meshes, warm)
        seconds.append(_timed(partial(cage_of, fitted, warm)))
    return min(seconds[1:])


def _cast_seconds(recipe: Recipe, meshes: BakeMeshes, rounds: int) -> float:
    """Of casting alone, the scenes warm; another reach casts everything anew."""
    seconds, warm = [], Warm()
    for n in range(rounds + 1):
        reach = recipe.reach.model_copy(update={"outward": 3 + 0.01 * n})
        seconds.append(bake(recipe.model_copy(update={"reach": reach}), meshes, warm=warm).seconds["casting"])
    return min(seconds[1:])


def _best(look: Callable[[], object], warm: Warm, rounds: int) -> float:
    """The best of several, the pictures around the piece made anew each time."""
    seconds = []
    for _ in range(rounds + 1):
        warm.drop(KEPT)
        seconds.append(_timed(look))
    return min(seconds[1:])


def _proof_seconds(recipe: Recipe, meshes: BakeMeshes, rounds: int, warm: Warm | None = None) -> float:
    """A proof that is cast anew, judged and saved with its flaws, the meshes warm."""
    seconds, warm = [], warm or Warm()
    for n in range(rounds + 1):
        reach = recipe.reach.model_copy(update={"outward": 3 + 0.01 * n})
        with tempfile.TemporaryDirectory() as folder:
            started = time.perf_counter()
            made: Bake = bake(recipe.model_copy(update={"reach": reach}), meshes, warm=warm)
            save(made, folder, previews=pathlib.Path(folder))
            seconds.append(time.perf_counter() - started)
    return min(seconds[1:])
