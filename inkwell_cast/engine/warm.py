"""Getting the kernels ready: compiled once after an installation, from disk at later starts."""

import subprocess
import sys
from collections.abc import Callable

import numpy as np

from ..core import bake as baking
from ..core import checks, normals
from ..core.arrays import F32
from ..core.basis import mikktspace
from ..core.cage import Cage
from ..core.cast import cast_rays
from ..core.embree import Scene
from ..core.images import png
from ..core.likeness import likeness
from ..core.low import Low
from ..core.maps import REGISTRY
from ..core.mesh import Layer, Mesh
from ..core.probe import probe
from ..core.recipe import Output, Recipe, Sheet
from ..core.sheet import grid, nearest_covered, pad

RECIPE = Recipe(sheet=Sheet(width=16, height=16, samples=1), output=Output(maps=["normal", "normal_object"]))


def one_triangle() -> Mesh:
    """The smallest mesh that can be baked onto itself."""
    points: F32 = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    triangles = np.array([[0, 1, 2]], np.int32)
    return Mesh("warm-up", points, triangles, uvs=(Layer(points[:, :2].copy(), triangles),))


def warm_up(on_compile: Callable[[], None] = lambda: None) -> None:
    """Make every kernel of a bake and of a probe ready.

    `on_compile` is called where they must be compiled first; two processes share that work.
    """
    mesh = one_triangle()
    normals.weld(mesh.positions)
    if sum(normals._first_equal.stats.cache_misses.values()):
        on_compile()
        with subprocess.Popen(
            [sys.executable, "-c", f"from {__name__} import compile_rays_and_maps as run; run()"]
        ) as helper:
            _compile_surface(mesh)
            helper.wait()
    result = baking.bake(RECIPE, baking.BakeMeshes([mesh], [mesh]))
    _read_back(result.cast, result.low)
    probe(*baking.lay_out(RECIPE, [mesh]), *baking.Warm().sculpt([mesh]), 4, 12)


def _compile_surface(mesh: Mesh) -> None:
    dressed = normals.with_normals(mesh)
    normals.with_normals(dressed)
    mikktspace(dressed)
    normals.averaged(dressed)
    checks.zero_area(mesh)


def compile_rays_and_maps() -> None:
    """All that needs no normals or tangents computed; runs in the helper."""
    bare = one_triangle()
    up: F32 = np.zeros((3, 3), np.float32)
    up[:, 2] = 1
    mesh = Mesh(bare.name, bare.positions, bare.triangles, Layer(up, bare.triangles), bare.uvs)
    laid = grid(bare.uvs[0].at_corners(), 16, 16, 1)
    tangents = np.ones((1, 3, 4), np.float32)
    low = Low(mesh, np.ascontiguousarray(up[None]), tangents, laid)
    scene = Scene(mesh.positions, mesh.triangles)
    cast = cast_rays(mesh, Cage(up[None].copy(), 1.0), laid, mesh, scene, lambda share: None, lambda: False)
    pad(cast.normal.copy(), nearest_covered(cast.covered, 1))
    _read_back(cast, low)


def _read_back(cast, low) -> None:  # type: ignore[no-untyped-def]
    for made in REGISTRY.values():
        picture = png.quantise(made.derive(cast, low, RECIPE), 8)
        likeness(cast, made.read_back(png.dequantise(picture), cast, low, RECIPE))
        png.quantise(made.derive(cast, low, RECIPE), 16)
