"""Getting the kernels ready: compiled once after an installation, from disk at later starts."""

import subprocess
import sys
from collections.abc import Callable

import numpy as np

from ..core import bake as baking
from ..core import edges, normals, refusals
from ..core.arrays import F32
from ..core.assembly import Sculpt, Warm
from ..core.basis import mikktspace
from ..core.cast import Rays, cast_rays, rays_of
from ..core.checks import check
from ..core.embree import Scene, Vertices
from ..core.images import png
from ..core.likeness import likeness
from ..core.low import Low
from ..core.maps import REGISTRY
from ..core.mesh import Layer, Mesh
from ..core.probe import probe
from ..core.recipe import Output, Recipe, Sheet
from ..core.sheet import grid, nearest_covered, pad

RECIPE = Recipe(sheet=Sheet(width=16, height=16, samples=1), output=Output(maps=["normal", "normal_object"]))


def one_triangle(name: str = "warm-up") -> Mesh:
    """The smallest mesh that can be baked onto itself."""
    points: F32 = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    triangles = np.array([[0, 1, 2]], np.int32)
    return Mesh(name, points, triangles, uvs=(Layer(points[:, :2].copy(), triangles),))


def warm_up(on_compile: Callable[[], None] = lambda: None) -> None:
    """Make every kernel of a bake, of the checks and of a probe ready.

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
    meshes, warm = baking.BakeMeshes([mesh], [one_triangle()]), Warm()
    result = baking.bake(RECIPE, meshes, warm=warm)
    _read_back(result.cast, result.low)
    probe(result.low, rays_of(result.low, result.cage, result.assembly.low_pair), result.sculpt, 4, 12)
    check(RECIPE, meshes, warm)


def _compile_surface(mesh: Mesh) -> None:
    dressed = normals.with_normals(mesh)
    normals.with_normals(dressed)
    mikktspace(dressed)
    normals.averaged(dressed)
    refusals.zero_area(mesh)
    sides = edges.edges_of(mesh)
    edges.shaded(mesh, sides, sides.open, False)
    check(RECIPE, baking.BakeMeshes([mesh], [one_triangle()]))


def compile_rays_and_maps() -> None:
    """All that needs no normals or tangents computed; runs in the helper."""
    bare = one_triangle()
    up: F32 = np.zeros((3, 3), np.float32)
    up[:, 2] = 1
    mesh = Mesh(bare.name, bare.positions, bare.triangles, Layer(up, bare.triangles), bare.uvs)
    laid = grid(bare.uvs[0].at_corners(), 16, 16, 1)
    row = np.zeros(1, np.int32)
    low = Low(mesh, row, np.ascontiguousarray(up[None]), np.ones((1, 3, 4), np.float32), laid)
    sculpt = _sculpt(mesh)
    rays = Rays(mesh.positions[mesh.triangles], up[None].copy(), np.ones(1, np.float32), row)
    cast = cast_rays(low, rays, sculpt, lambda share: None, lambda: False)
    pad(cast.normal.copy(), nearest_covered(cast.covered, 1))
    _read_back(cast, low)


def _sculpt(mesh: Mesh) -> Sculpt:
    scene = Scene(Vertices(mesh.positions), mesh.triangles)
    return Sculpt(mesh, np.array([0, 1], np.int64), scene.tracer[None].copy(), [scene], ("warm-up/warm-up",))


def _read_back(cast, low) -> None:  # type: ignore[no-untyped-def]
    for made in REGISTRY.values():
        picture = png.quantise(made.derive(cast, low, RECIPE), 8)
        likeness(cast, made.read_back(png.dequantise(picture), cast, low, RECIPE))
        png.quantise(made.derive(cast, low, RECIPE), 16)
