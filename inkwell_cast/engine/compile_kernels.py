"""Getting the kernels ready: compiled once after an installation or an update, from disk at later starts."""

import pathlib
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from typing import get_args

import numpy as np

from .. import kernel_cache
from ..core.bake import refusals
from ..core.bake.live_proof import LiveProof
from ..core.bake.pipeline import bake
from ..core.bake.saving import save
from ..core.base.array_types import F32
from ..core.base.progress import ShareDone
from ..core.cage.cage import rays_of
from ..core.cage.coverage import coverage
from ..core.cage.fit import cage_of
from ..core.cage.inverse_rays import located_of
from ..core.cast.context import Context
from ..core.cast.hits import empty_cast, empty_hits
from ..core.cast.kernel import cast_rays
from ..core.checks import check
from ..core.formats import read_mesh, write_mesh
from ..core.images import png
from ..core.maps import REGISTRY, ReadsNormals
from ..core.maps.curvature import curvature_of
from ..core.mesh import adjacency, normals
from ..core.mesh.mesh import CornerValues, Mesh, merge, values_at_corners
from ..core.mesh.textures import Texture
from ..core.piece.assembly import assemble
from ..core.piece.low_on_sheet import Low
from ..core.piece.piece import Assembly, BakeMeshes
from ..core.piece.scene_cache import Warm
from ..core.piece.sculpt import Sculpt
from ..core.rays.embree import Scene, Vertices, tracers_of
from ..core.rays.modifiers.modifiers import no_modifiers
from ..core.rays.ray import rays_through
from ..core.review import display_meshes
from ..core.review.likeness import likeness
from ..core.review.other_rays import other_rays
from ..core.review.probe import probe
from ..core.review.section import section
from ..core.settings.map_names import MAPS
from ..core.settings.maps import Occlusion, Subdivision
from ..core.settings.output import Output
from ..core.settings.pairing import Paired
from ..core.settings.reach import Reach
from ..core.settings.recipe import Recipe
from ..core.settings.regions import Brush, Heal, Omission, Patch, Pocket, Stroke
from ..core.settings.sheet import Sheet
from ..core.tangent.mikktspace import mikktspace
from ..core.uv.padding import nearest_covered, pad
from ..core.uv.rasterise import grid
from .priority import Extent

RECIPE = Recipe(sheet=Sheet(width=16, height=16, samples=1), output=Output(maps=["normal", "normal_object"]))
FIRST_THERE = "first"  # what a first picture needs is there
AT_ONCE = 2
LOOK_EVERY = 0.1  # seconds
FIRST_FILES = 60  # of them, about, that a first picture needs
FILES = 280  # of compiled code, about, once all of it is there: what is told on the way is their share of it
FIRST = ("compile_first_picture", "compile_surface")
STEPS = (
    *FIRST,
    "compile_rays_and_maps",
    "compile_checks",
    "compile_cages",
    "compile_maps",
    "compile_judging",
    "compile_readers",
    "compile_troubles",
)
FITTED = RECIPE.model_copy(update={"reach": Reach(shape="fitted")})
MENDED = RECIPE.model_copy(
    update={
        "reach": Reach(straighten=True, outward=8.0),
        "nudges": [Stroke(kind=kind, points=[(0.2, 0.2, 0.0)], radius=0.2, amount=0.1) for kind in get_args(Brush)],
        "pockets": [Pocket(centre=(0.2, 0.2, 0.0))],
        "omissions": [Omission(part="none/none", centre=(0.2, 0.2, 0.0), radius=0.1)],
        "patches": [Patch(centre=(0.2, 0.2, 0.0), radius=0.2, outward=3.0)],
        "heals": [Heal(centre=(0.7, 0.7, 0.0), radius=0.2)],
    }
)
FAULTY = RECIPE.model_copy(
    update={
        "sheet": Sheet(width=64, height=64, samples=1),
        "reach": Reach(unit="scene", outward=0.15, inward=0.1),
        "occlusion": Occlusion(rays=1, occluders="piece"),
        "output": Output(maps=["normal", "occlusion"], dither=True),
    }
)
WORN = RECIPE.model_copy(update={"output": Output(maps=["color"])})
OTHERS = [
    Recipe(sheet=RECIPE.sheet, output=Output(maps=list(MAPS)), occlusion=Occlusion(rays=1, denoise=True)),
    Recipe(sheet=RECIPE.sheet, output=Output(maps=["occlusion"]), occlusion=Occlusion(rays=1, occluders="low")),
    Recipe(sheet=RECIPE.sheet, output=RECIPE.output, subdivision=Subdivision(scheme="catmull-clark", levels=1)),
]


def one_triangle(name: str = "warm-up") -> Mesh:
    """The smallest mesh that can be baked onto itself."""
    points: F32 = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    triangles = np.array([[0, 1, 2]], np.int32)
    return Mesh(name, points, triangles, uvs=(CornerValues(points[:, :2].copy(), triangles),))


def warm_up(tell: ShareDone = lambda share: None, extent: Extent = "all") -> None:
    """Make the kernels of a bake and of a probe ready; where any must be compiled before, `extent` says how many are.

    `tell(share)` hears how much of the compiling is done, if there is any.
    """
    if extent == "all":
        compile_missing(tell)
    elif extent == "first":
        compile_first(tell)
    meshes, warm = BakeMeshes([one_triangle()], [one_triangle()]), Warm()
    if not kernel_cache.complete():
        if extent == "first":
            LiveProof(warm).show(RECIPE, meshes, "normal", False, lambda: False)
        return
    result = bake(RECIPE, meshes, warm=warm)
    _read_back(result.sheets[0].context)
    probe(result.low, rays_of(result.assembly, result.cage, result.low.triangles), result.sculpt, 4, 12)


def compile_missing(tell: ShareDone = lambda share: None) -> None:
    """Compile every kernel unless all are there, by this installation or another of the same sources."""
    kernel_cache.note_use()
    if not kernel_cache.complete():
        compile_all(tell)


def compile_first(tell: ShareDone = lambda share: None) -> None:
    """Compile what the first picture of a piece needs, unless that is there; the rest is left to who needs it."""
    kernel_cache.note_use()
    mark = kernel_cache.folder() / FIRST_THERE
    if not kernel_cache.complete() and not mark.exists() and not _compile(FIRST, FIRST_FILES, tell):
        mark.write_text("")


def compile_all(tell: ShareDone = lambda share: None) -> None:
    """Compile every kernel into `kernel_cache.folder()`, by two processes at a time, and remove what is used no more.

    One that fails is left to whoever needs it: it will be compiled then, and say what is wrong.
    """
    if not _compile(STEPS, FILES, tell):
        folder = kernel_cache.folder()
        (folder / kernel_cache.COMPLETE).write_text("\n".join(sorted(path.name for path in folder.rglob("*.nbi"))))
        kernel_cache.remove_unused()


def _compile(steps: tuple[str, ...], files: int, tell: ShareDone) -> int:
    """Run some steps, which leave about so many `files` of compiled code in all; gives how many of them failed."""
    waiting, running, failed, folder = list(steps), list[subprocess.Popen[bytes]](), 0, kernel_cache.folder()
    while waiting or running:
        while waiting and len(running) < AT_ONCE:
            running.append(_started(waiting.pop(0)))
        time.sleep(LOOK_EVERY)
        failed += sum(1 for helper in running if helper.poll())
        running = [helper for helper in running if helper.poll() is None]
        tell(min(sum(1 for _ in folder.rglob("*.nbc")) / files, 0.99))
    folder.mkdir(parents=True, exist_ok=True)
    return failed


def _started(name: str) -> subprocess.Popen[bytes]:
    """A process that runs one of this module's functions, to fill the cache of compiled kernels."""
    return subprocess.Popen([sys.executable, "-c", f"from {__name__} import {name} as run; run()"])


def compile_surface() -> None:
    _compile_surface(one_triangle())


def _compile_surface(mesh: Mesh) -> None:
    dressed = normals.with_normals(mesh)
    normals.with_normals(dressed)
    mikktspace(dressed)
    normals.averaged(dressed)
    refusals.zero_area(mesh)
    sides = adjacency.edges_of(mesh)
    adjacency.shaded(mesh, sides, sides.open, False)
    pad(np.zeros((16, 16, 3), np.float32), nearest_covered(np.ones((16, 16), np.uint8), 1))


def compile_checks() -> None:
    check(RECIPE, BakeMeshes([one_triangle()], [one_triangle()]))


def compile_first_picture() -> None:
    """Casting and the normal map, for which neither normals nor tangents are computed."""
    REGISTRY["normal"].derive(_cast_alone(), None)


def compile_rays_and_maps() -> None:
    """What reads back and probes what was cast."""
    context = _cast_alone()
    _read_back(context)
    probe(context.low, context.rays, context.sculpt, 4, 12)


def _cast_alone() -> Context:
    bare = one_triangle()
    up: F32 = np.zeros((3, 3), np.float32)
    up[:, 2] = 1
    mesh = Mesh(bare.name, bare.positions, bare.triangles, CornerValues(up, bare.triangles), bare.uvs)
    laid = grid(bare.uvs[0].at_corners(), 16, 16, 1)
    row = np.zeros(1, np.int32)
    low = Low(mesh, row, np.ascontiguousarray(up[None]), np.ones((1, 3, 4), np.float32), laid)
    sculpt = _sculpt(mesh)
    rays = rays_through(
        mesh.positions[mesh.triangles], up[None].copy(), np.ones(1, np.float32), row, no_modifiers(1, 1)
    )
    cast, hits = empty_cast(laid), empty_hits(laid, laid.busy_tiles)
    cast_rays(low, rays, sculpt, cast, hits, lambda share: None, lambda: False)
    return Context(Assembly(RECIPE, {}, Paired([], []), mesh, row, (), []), sculpt, low, rays, cast, Warm())


def compile_maps() -> None:
    """What maps beyond normals need."""
    for recipe in OTHERS:
        bake(recipe, BakeMeshes([one_triangle()], [one_triangle()]))
    curvature_of(patch(6, 0.01), 1.0)  # of a surface much finer than the radius
    hard = replace(patch(6), normals=values_at_corners(np.ones((72, 3, 3), np.float32)))
    curvature_of(hard, 0.1)
    squares = replace(patch(2), polygons=np.tile(np.arange(4, dtype=np.int32), 2))
    bake(OTHERS[-1], BakeMeshes([squares], [one_triangle("warm-up high")]))
    bake(WORN, BakeMeshes([one_triangle()], [_with_a_picture(one_triangle())]))


def compile_readers() -> None:
    """The readers of text and of polygons."""
    square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
    with tempfile.TemporaryDirectory() as folder:
        path = pathlib.Path(folder)
        head = "ply\nformat {} 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\n"
        head += "element face 2\nproperty list uchar int vertex_indices\nend_header\n"
        rows = "\n".join(" ".join(map(str, p)) for p in square.tolist())
        (path / "a.ply").write_text(f"{head.format('ascii')}{rows}\n4 0 1 2 3\n3 0 1 2\n")
        faces = b"".join(bytes([n]) + np.arange(n, dtype="<i4").tobytes() for n in (4, 3))  # of one, none lies apart
        (path / "b.ply").write_bytes(head.format("binary_little_endian").encode() + square.tobytes() + faces)
        points = "".join(f"v {' '.join(map(str, p))}\n" for p in square.tolist())
        (path / "c.obj").write_text(f"{points}f 1 2 3 4\n")
        facet = "".join(f"vertex {' '.join(map(str, p))}\n" for p in square[:3].tolist())
        (path / "f.stl").write_text(f"solid a\nfacet normal 0 0 1\nouter loop\n{facet}endloop\nendfacet\nendsolid a\n")
        write_mesh(path / "d.ply", one_triangle())
        write_mesh(path / "e.glb", one_triangle())
        for file in sorted(path.iterdir()):
            read_mesh(file)


def compile_cages() -> None:
    """Fitted and foreign cages, strokes, pockets, straightened rays, omissions; coverage and the section."""
    low, high = patch(3), patch(6, 0.01, name="warm-up high")
    warm = Warm()
    for recipe, cages in ((FITTED, []), (MENDED, [patch(4, 0.05, "warm-up cage")]), (MENDED, [])):
        assembly = assemble(recipe, BakeMeshes([low], [high], cages=cages), warm)
        sculpt, located = warm.sculpt(assembly), located_of(assembly, warm)
        cage = cage_of(assembly, warm)
        coverage(assembly, sculpt, cage, located)
        section(assembly, sculpt, cage, 0, (0.2, 0.1, 0.0), 0.0, 1.0, "u", (0.0, 0.0, 1.0))


def compile_judging() -> None:
    """What looks at a bake: likeness, flaws and repairs, and what is carried over."""
    low, high = patch(3), patch(6, 0.01, name="warm-up high")
    display_meshes.thinned(high)
    with tempfile.TemporaryDirectory() as folder:
        shaded = MENDED.model_copy(update={"output": Output(maps=["normal", "occlusion"])})
        save(bake(shaded, BakeMeshes([low], [high])), folder, previews=folder)


def compile_troubles() -> None:
    """What looks at a piece that is wrong: rays that miss or strike another part, shared texels, a high inside out."""
    low, high = (_with_a_lid(patch(4, name=f"warm-up {role}")) for role in ("low", "high"))
    with tempfile.TemporaryDirectory() as folder:
        made = bake(FAULTY, BakeMeshes([low], [high]))
        save(made, folder, previews=folder)
    contexts = [sheet.context for sheet in made.sheets]
    other_rays(contexts, True)("straight", [context.cast.covered for context in contexts])
    inside_out = np.array([[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]], np.int32)
    corners: F32 = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], np.float32)
    check(FAULTY, BakeMeshes([low], [Mesh("warm-up high", corners, inside_out)]))
    display_meshes.view_near(high, high.object_names, (0.0, 0.0, 0.5), 1.0)


def _with_a_lid(floor: Mesh) -> Mesh:
    leaning = floor.positions.copy()
    leaning[:, 2] += 0.6 * leaning[:, 0] + 0.05
    return merge([floor, replace(floor, positions=leaning)], floor.name)


def patch(cells: int, height: float = 0.0, name: str = "warm-up low") -> Mesh:
    """A square of some cells with a fold and a seam in its middle."""
    u, v = (axis.reshape(-1) for axis in np.meshgrid(*[np.linspace(0, 1, cells + 1)] * 2, indexing="ij"))
    points = np.stack([u, v, height - 0.3 * np.abs(u - 0.5)], axis=1).astype(np.float32)
    index = np.arange(len(points), dtype=np.int32).reshape(cells + 1, cells + 1)
    a, b, c, d = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
    triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    flat = np.stack([u * 0.45, v], axis=1).astype(np.float32)
    right = (points[triangles, 0].mean(axis=1) > 0.5)[:, None]
    both = np.concatenate([flat, flat + np.array([0.5, 0], np.float32)])
    islands = CornerValues(both, (triangles + right * len(points)).astype(np.int32))
    colors = np.ones((len(points), 4), np.float32)
    return Mesh(name, points, triangles, uvs=(islands,), colors=CornerValues(colors, triangles))


def _with_a_picture(mesh: Mesh) -> Mesh:
    with tempfile.TemporaryDirectory() as folder:
        path = pathlib.Path(folder) / "white.png"
        png.write(path, np.full((2, 2, 3), 255, np.uint8))
        return replace(mesh, textures=(Texture(path.name, np.frombuffer(path.read_bytes(), np.uint8)),))


def _sculpt(mesh: Mesh) -> Sculpt:
    scene = Scene(Vertices(mesh.positions), mesh.triangles)
    return Sculpt(mesh, np.array([0, 1], np.int64), tracers_of([scene]), [scene], ("warm-up/warm-up",))


def _read_back(context: Context) -> None:
    for key in RECIPE.output.maps:
        map_ = REGISTRY[key]
        image = map_.derive(context, None).image
        png.quantise(image, 16)
        if isinstance(map_, ReadsNormals):
            likeness(context.cast, map_.read_back(png.dequantise(png.quantise(image, 8)), context))
