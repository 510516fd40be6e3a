"""Getting the kernels ready: compiled once after an installation, from disk at later starts."""

import pathlib
import subprocess
import sys
import tempfile
from collections.abc import Callable
from typing import get_args

import numpy as np

from ..core import bake as baking
from ..core import edges, normals, refusals
from ..core.arrays import F32
from ..core.assembly import Assembly, Sculpt, Warm
from ..core.basis import mikktspace
from ..core.cage import rays_of
from ..core.cast import cast_rays, empty_cast, empty_hits
from ..core.checks import check
from ..core.embree import Scene, Vertices
from ..core.formats import read_mesh, write_mesh
from ..core.ground import Ground
from ..core.images import png
from ..core.likeness import likeness
from ..core.low import Low
from ..core.map_settings import Occlusion, Subdivision
from ..core.maps import REGISTRY, ReadsNormals
from ..core.mesh import Layer, Mesh
from ..core.pairing import Paired
from ..core.probe import probe
from ..core.rays import rays_through
from ..core.recipe import MapKey, Output, Recipe, Sheet
from ..core.sheet import grid, nearest_covered, pad
from ..core.special import nothing_special

RECIPE = Recipe(sheet=Sheet(width=16, height=16, samples=1), output=Output(maps=["normal", "normal_object"]))
OTHERS = [
    Recipe(sheet=RECIPE.sheet, output=Output(maps=list(get_args(MapKey))), occlusion=Occlusion(rays=1, denoise=True)),
    Recipe(sheet=RECIPE.sheet, output=Output(maps=["occlusion"]), occlusion=Occlusion(rays=1, occluders="low")),
    Recipe(sheet=RECIPE.sheet, output=RECIPE.output, subdivision=Subdivision(scheme="catmull-clark", levels=1)),
]


def one_triangle(name: str = "warm-up") -> Mesh:
    """The smallest mesh that can be baked onto itself."""
    points: F32 = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    triangles = np.array([[0, 1, 2]], np.int32)
    return Mesh(name, points, triangles, uvs=(Layer(points[:, :2].copy(), triangles),))


def warm_up(on_compile: Callable[[], None] = lambda: None) -> None:
    """Make every kernel of a bake and of a probe ready, and see to it that those of checks and readers are compiled.

    `on_compile` is called where they must be compiled first; two processes share that work.
    """
    mesh = one_triangle()
    normals.weld(mesh.positions)
    if sum(normals._first_equal.stats.cache_misses.values()):
        on_compile()
        with _started("compile_rays_and_maps") as helper:
            _compile_surface(mesh)
            helper.wait()
        _started("compile_others")  # not waited for: most first bakes do without them
    meshes, warm = baking.BakeMeshes([mesh], [one_triangle()]), Warm()
    result = baking.bake(RECIPE, meshes, warm=warm)
    _read_back(result.sheets[0].ground)
    probe(result.low, rays_of(result.assembly, result.cage, result.low.triangles), result.sculpt, 4, 12)


def _started(name: str) -> subprocess.Popen[bytes]:
    """A process that runs one of this module's functions, to fill the cache of compiled kernels."""
    return subprocess.Popen([sys.executable, "-c", f"from {__name__} import {name} as run; run()"])


def _compile_surface(mesh: Mesh) -> None:
    dressed = normals.with_normals(mesh)
    normals.with_normals(dressed)
    mikktspace(dressed)
    normals.averaged(dressed)
    refusals.zero_area(mesh)
    sides = edges.edges_of(mesh)
    edges.shaded(mesh, sides, sides.open, False)
    check(RECIPE, baking.BakeMeshes([mesh], [one_triangle()]))
    pad(np.zeros((16, 16, 3), np.float32), nearest_covered(np.ones((16, 16), np.uint8), 1))


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
    rays = rays_through(
        mesh.positions[mesh.triangles], up[None].copy(), np.ones(1, np.float32), row, nothing_special(1, 1)
    )
    cast, hits = empty_cast(laid), empty_hits(laid, laid.busy_tiles)
    cast_rays(low, rays, sculpt, cast, hits, lambda share: None, lambda: False)
    assembly = Assembly(RECIPE, {}, Paired([], []), mesh, row, (), [])
    _read_back(Ground(assembly, sculpt, low, rays, cast, Warm()))


def compile_others() -> None:
    """What maps beyond normals need, and the readers of text and of polygons."""
    for recipe in OTHERS:
        baking.bake(recipe, baking.BakeMeshes([one_triangle()], [one_triangle()]))
    square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
    with tempfile.TemporaryDirectory() as folder:
        path = pathlib.Path(folder)
        head = "ply\nformat {} 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\n"
        head += "element face 1\nproperty list uchar int vertex_indices\nend_header\n"
        rows = "\n".join(" ".join(map(str, p)) for p in square.tolist())
        (path / "a.ply").write_text(f"{head.format('ascii')}{rows}\n4 0 1 2 3\n")
        body = square.tobytes() + b"\4" + np.arange(4, dtype="<i4").tobytes()
        (path / "b.ply").write_bytes(head.format("binary_little_endian").encode() + body)
        points = "".join(f"v {' '.join(map(str, p))}\n" for p in square.tolist())
        (path / "c.obj").write_text(f"{points}f 1 2 3 4\n")
        write_mesh(path / "d.ply", one_triangle())
        write_mesh(path / "e.glb", one_triangle())
        for file in sorted(path.iterdir()):
            read_mesh(file)


def _sculpt(mesh: Mesh) -> Sculpt:
    scene = Scene(Vertices(mesh.positions), mesh.triangles)
    return Sculpt(mesh, np.array([0, 1], np.int64), scene.tracer[None].copy(), [scene], ("warm-up/warm-up",))


def _read_back(ground: Ground) -> None:
    for key in RECIPE.output.maps:
        made = REGISTRY[key]
        image = made.derive(ground, None).image
        png.quantise(image, 16)
        if isinstance(made, ReadsNormals):
            likeness(ground.cast, made.read_back(png.dequantise(png.quantise(image, 8)), ground))
