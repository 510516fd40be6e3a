"""Checks before a bake, and how a very large file is taken in."""

import pathlib
import tempfile
import time
from dataclasses import replace

from inkwell_cast.core.checks import check
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe

from .scale import run
from .shapes import sphere, write_large

_TAKE_IN = """
import json, pathlib, resource, sys, time
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.mesh.binary_message import read_packed, write_blocks, write_packed
from inkwell_cast.core.review.display_meshes import view_near, view_of_sculpt
path = pathlib.Path(sys.argv[1])
started = time.perf_counter()
mesh = read_mesh(path)
write_packed(path.with_suffix(".copy"), mesh)
kept = time.perf_counter()
del mesh
mesh = read_packed(path.with_suffix(".copy"))
write_blocks(path.with_suffix(".view"), view_of_sculpt(mesh, mesh.object_names))
drawn = time.perf_counter()
place, size, near = mesh.positions[len(mesh.positions) // 2].tolist(), mesh.bounds[1].max(), {}
for share in (0.1, 0.1, 0.4):
    begun = time.perf_counter()
    view_near(mesh, mesh.object_names, place, share * size)
    near[share] = time.perf_counter() - begun
print(json.dumps({"keep_seconds": kept - started, "stand_in_seconds": drawn - kept,
    "triangles": len(mesh.triangles), "near_seconds": near[0.1], "nearer_stand_in_seconds": near[0.4],
    "peak_gigabytes": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 / 1e9}))
"""

_CHECK = """
import json, resource, sys, time
from bench.checking import *
sizes = 80, int(sys.argv[1])
small, large = (replace(sphere(n, 0.02, uvs=False), name="high", object_names=("high",)) for n in sizes)
recipe = Recipe(reach=Reach(outward=3, inward=3))
check(recipe, BakeMeshes([sphere(60)], [small]))
started = time.perf_counter()
check(recipe, BakeMeshes([sphere(60)], [large]))
print(json.dumps({"triangles": len(large.triangles), "seconds": time.perf_counter() - started,
    "peak_gigabytes": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 / 1e9}))
"""


def measure(rounds: int = 3) -> dict[str, float]:
    """Seconds of all checks on a low and a high of a million triangles, the best of several."""
    meshes = BakeMeshes([sphere(60)], [replace(sphere(1000, 0.02, uvs=False), name="high", object_names=("high",))])
    recipe, seconds = Recipe(reach=Reach(outward=3, inward=3)), []
    check(recipe, meshes)
    for _ in range(rounds):
        started = time.perf_counter()
        check(recipe, meshes, Warm())
        seconds.append(time.perf_counter() - started)
    return {"triangles": len(meshes.highs[0].triangles), "seconds": min(seconds)}


def measure_large(triangles: int = 20_000_000) -> object:
    """What checking costs once for a very large sculpt, in a process of its own."""
    return run(_CHECK, str(int(triangles**0.5)))


def measure_taking_in(triangles: int = 20_000_000) -> object:
    """From a binary PLY to the piece's copy and the stand-in that the browser draws."""
    with tempfile.TemporaryDirectory() as folder:
        path = pathlib.Path(folder) / "large.ply"
        write_large(path, triangles)
        return run(_TAKE_IN, str(path))
