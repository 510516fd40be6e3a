"""Odd meshes, scales, places, reaches, sheets, threads and files that would grow: baked alike, or refused in words."""

import json
import os
import pathlib
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.mesh import Mesh, merge, values_at_corners
from inkwell_cast.core.piece.near_origin import near_origin
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ..shapes import grid_mesh, plane, torus
from .outcome import Outcome
from .server import LONGEST

RECIPE = Recipe(sheet=Sheet(width=48, height=48, samples=4), output=Output(maps=["normal", "height"]))
THREADS = """
import json, pathlib, sys
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.recipe import Recipe
recipe = Recipe.model_validate(json.loads(sys.argv[3]))
made = bake(recipe, BakeMeshes([read_mesh(sys.argv[1])], [read_mesh(sys.argv[2])]))
print([entry.sha256 for entry in save(made, pathlib.Path(sys.argv[4]), previews=pathlib.Path(sys.argv[4])).maps])
"""


def run(folder: pathlib.Path, islands: int, triangles: int) -> Outcome:
    """`islands` of a low of single triangles, and `triangles` of a large low."""
    outcome = Outcome("odd meshes, scales, threads, bombs")
    parts: list[tuple[str, Callable[[], str]]] = [
        *(
            (f"a ring of {power:+} powers of two", lambda power=power: _scaled(2.0**power))
            for power in (-90, -40, 40, 80)
        ),
        *((f"{away:g} sizes away", lambda away=away: _away(away)) for away in (1e2, 1e4, 1e6)),
        *(
            (f"quads that tie, times {scale:g}", lambda scale=scale: _ties(folder, scale))
            for scale in (0.01, 3.0, 100.0)
        ),
        *((name, lambda meshes=meshes: _baked(*meshes)) for name, meshes in _odd(islands, triangles)),
        *(
            (f"a reach of {reach}", lambda reach=reach: _reach(reach))
            for reach in (0.0, 1e-30, 1e6, -1.0, np.inf, np.nan)
        ),
        ("a sheet of 16384 by 16", lambda: _sheet(16384, 16)),
        ("a sheet of 16 by 16384", lambda: _sheet(16, 16384)),
        ("one, two and three threads", lambda: _threads(folder)),
        *((name, lambda name=name, text=text: _bomb(folder, name, text)) for name, text in _bombs()),
    ]
    outcome.cases = len(parts)
    for name, part in parts:
        outcome.tries += 1
        began = time.monotonic()
        try:
            wrong = part()
        except InputProblem:
            wrong = ""  # in words
        except Exception as error:
            wrong = f"{type(error).__name__}: {error}"[:300]
        if wrong:
            outcome.failures.append(f"{name}: {wrong}")
        elif time.monotonic() - began > LONGEST and not any(
            word in name for word in ("triangles", "islands", "threads")
        ):
            outcome.failures.append(f"{name}: it took {time.monotonic() - began:.0f} s")
    return outcome


def _ring() -> tuple[Mesh, Mesh]:
    return torus(20, 10, name="ring_low"), torus(80, 40, name="ring_high")


def _images(low: Mesh, high: Mesh, recipe: Recipe = RECIPE) -> dict[str, np.ndarray]:  # type: ignore[type-arg]
    meshes = BakeMeshes([low], [high])
    made = bake(near_origin(recipe, meshes), meshes)
    if not all(np.isfinite(image).all() for image in made.images.values()):
        raise ValueError("values that are no numbers")
    return made.images


def _scaled(factor: float) -> str:
    plain, other = (
        _images(*(replace(mesh, positions=mesh.positions * np.float32(by)) for mesh in _ring())) for by in (1, factor)
    )
    return "" if all(np.array_equal(plain[key], other[key]) for key in plain) else "other bytes"


def _away(sizes: float) -> str:
    plain = _images(*_ring())
    other = _images(*(replace(mesh, origin=(7.8 * sizes, 0.0, -7.8 * sizes)) for mesh in _ring()))
    apart = max(float((np.abs(plain[key].astype(float) - other[key]) > 1).mean()) for key in plain)
    return f"{apart:.1%} of the texels differ" if apart > 0.002 else ""


def _ties(folder: pathlib.Path, scale: float) -> str:
    """A sphere of quads is cut alike whatever it was multiplied by."""
    cut = []
    for by in (1.0, scale):
        u, v = np.meshgrid(np.linspace(0, 2 * np.pi, 25), np.linspace(0.1, np.pi - 0.1, 13))
        points = np.stack([np.cos(u) * np.sin(v), np.sin(u) * np.sin(v), np.cos(v)], axis=-1).reshape(-1, 3) * by
        rows = [
            (25 * j + i + 1, 25 * j + i + 2, 25 * j + i + 27, 25 * j + i + 26) for j in range(12) for i in range(24)
        ]
        text = [f"v {x:.6g} {y:.6g} {z:.6g}" for x, y, z in points] + ["f " + " ".join(map(str, row)) for row in rows]
        (folder / "sphere.obj").write_text("\n".join(text))
        cut.append(read_mesh(folder / "sphere.obj").triangles)
    return "" if np.array_equal(*cut) else f"{(cut[0] != cut[1]).any(axis=1).sum()} triangles are cut otherwise"


def _odd(islands: int, triangles: int) -> Iterator[tuple[str, tuple[Mesh, Mesh]]]:
    low, high = _ring()
    bad = high.positions.copy()
    bad[7] = np.nan
    yield "a vertex that is no number", (low, replace(high, positions=bad))
    yield "no area at all", (replace(low, positions=low.positions * np.float32([1, 0, 0])), high)
    flat = high.positions.copy()
    flat[high.triangles[::3].reshape(-1)] = flat[0]
    yield "every third face without area", (low, replace(high, positions=flat))
    corners = low.uvs[0].at_corners()
    yield "UVs at one place", (replace(low, uvs=(values_at_corners(corners * np.float32(0)),)), high)
    yield "UVs far out", (replace(low, uvs=(values_at_corners(corners * np.float32(1e30)),)), high)
    yield "faces that name one vertex thrice", (replace(low, triangles=low.triangles[:, [0, 0, 0]].copy()), high)
    yield "a low far from its high", (low, replace(high, positions=high.positions + np.float32(1e5)))
    yield f"{islands:,} islands", (_scattered(islands), plane(4, 0.01, name="high"))
    side = int(np.sqrt(triangles / 2))
    wide = grid_mesh(side, side, lambda u, v: (u, v, 0.01 * np.sin(20 * u)), "low")
    yield f"a low of {len(wide.triangles):,} triangles", (wide, replace(plane(8, 0.01, name="high"), uvs=()))
    yield "a low of a thousand objects", (_many(1000), plane(4, 0.01, name="high"))


def _scattered(count: int) -> Mesh:
    """So many triangles that share nothing, side by side on the plane and on the sheet."""
    side = int(np.ceil(np.sqrt(count)))
    at = np.stack([np.arange(count) % side, np.arange(count) // side], axis=1)[:, None] / side
    uvs = (at + np.array([[0.1, 0.1], [0.9, 0.1], [0.1, 0.9]]) / side).astype(np.float32)
    points = np.concatenate([uvs, np.zeros((count, 3, 1), np.float32)], axis=2).reshape(-1, 3)
    return Mesh("low", points, np.arange(3 * count, dtype=np.int32).reshape(-1, 3), uvs=(values_at_corners(uvs),))


def _many(count: int) -> Mesh:
    whole = _scattered(count)
    names = tuple(f"part {n}" for n in range(count))
    return replace(merge([whole], "low"), objects=np.arange(count, dtype=np.int32), object_names=names)


def _baked(low: Mesh, high: Mesh) -> str:
    _images(low, high)
    return ""


def _reach(reach: float) -> str:
    try:
        recipe = Recipe.model_validate(RECIPE.model_dump() | {"reach": {"outward": reach, "inward": reach}})
    except ValueError as refused:  # by its name
        return "" if "reach" in str(refused) else str(refused)
    _images(*_ring(), recipe)
    return ""


def _sheet(width: int, height: int) -> str:
    recipe = RECIPE.model_copy(update={"sheet": Sheet(width=width, height=height, samples=1)})
    made = _images(*_ring(), recipe)
    return "" if made["normal"].shape[:2] == (height, width) else f"{made['normal'].shape}"


def _threads(folder: pathlib.Path) -> str:
    paths = [folder / f"{mesh.name}.ply" for mesh in _ring()]
    for path, mesh in zip(paths, _ring(), strict=True):
        write_mesh(path, mesh)
    said = set()
    for count in (1, 2, 3):
        out = folder / f"threads{count}"
        out.mkdir()
        command = [sys.executable, "-c", THREADS, *map(str, paths), json.dumps(RECIPE.model_dump()), str(out)]
        environment = os.environ | {"NUMBA_NUM_THREADS": str(count)}
        done = subprocess.run(command, capture_output=True, text=True, env=environment, timeout=600)
        said.add(done.stdout or done.stderr[-200:])
    return "" if len(said) == 1 and next(iter(said)).startswith("['") else f"{said}"


def _bombs() -> Iterator[tuple[str, str]]:
    """Small files that would become huge: references and instances that double, counts that nothing stands behind."""
    triangle = 'def Mesh "m" { int[] faceVertexCounts = [3] int[] faceVertexIndices = [0, 1, 2]'
    usd = ["#usda 1.0", 'def Xform "a0" {', f"{triangle} point3f[] points = [(0,0,0), (1,0,0), (0,1,0)] }} }}"]
    for n in range(1, 26):
        twice = " ".join(f'def Xform "{half}" (references = </a{n - 1}>) {{}}' for half in "lr")
        usd.append(f'def Xform "a{n}" {{ {twice} }}')
    yield "doubling.usda", "\n".join(usd)
    head = '; FBX 7.4.0 project file\nObjects: {\n Geometry: 1, "Geometry::", "Mesh" {\n'
    yield (
        "counts.fbx",
        head + "  Vertices: *2000000000 {\n a: 0,0,0\n }\n  PolygonVertexIndex: *3 {\n a: 0,1,-3\n }\n }\n}\n",
    )
    yield "counts.ply", "ply\nformat ascii 1.0\nelement vertex 4000000000\nproperty float x\nend_header\n0\n"
    nodes = [{"children": [n + 1, n + 1]} for n in range(40)] + [{"mesh": 0}]
    yield "doubling.gltf", json.dumps({"asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": nodes})


def _bomb(folder: pathlib.Path, name: str, text: str) -> str:
    (folder / name).write_text(text)
    read_mesh(folder / name)
    return "it was read"
