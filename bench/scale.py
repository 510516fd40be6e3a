"""Scale and first use, each in a process of its own."""

import json
import os
import pathlib
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request

from inkwell_cast.core.formats import write_mesh

from .shapes import sphere, write_large

_SCALE = """
import json, resource, sys, time
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.engine.compile_kernels import one_triangle
from bench.shapes import sphere
small = Recipe(sheet=Sheet(width=16, height=16), output=Output(maps=["normal_object"]))
bake(small, BakeMeshes([one_triangle()], [one_triangle()]))  # kernels from disk, as in a running engine
started = time.perf_counter()
high = read_mesh(sys.argv[1])
read = time.perf_counter() - started
recipe = Recipe(reach=Reach(outward=3, inward=3), sheet=Sheet(width=2048, height=2048, samples=1),
                output=Output(maps=["normal_object"]))
result = bake(recipe, BakeMeshes([sphere(60)], [high]))
print(json.dumps({"triangles": len(high.triangles), "read_seconds": read, "scene_seconds": result.seconds["scene"],
    "casting_seconds": result.seconds["casting"], "whole_seconds": time.perf_counter() - started,
    "missed": result.cast.missed, "peak_gigabytes": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 / 1e9}))
"""

_LARGE_MAPS = """
import json, resource, sys, time
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.maps import MAPS
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from bench.shapes import sphere
maps = [key for key in MAPS if key != "displacement"] if sys.argv[2] == "all" else ["normal"]
recipe = Recipe(reach=Reach(outward=3, inward=3), sheet=Sheet(width=1024, height=1024, samples=1),
                output=Output(maps=maps))
small = recipe.model_copy(update={"sheet": Sheet(width=64, height=64)})
bake(small, BakeMeshes([sphere(40)], [sphere(60, 0.02, uvs=False)]))
high = sphere(int(int(sys.argv[1]) ** 0.5), 0.02, uvs=False)
started = time.perf_counter()
made = bake(recipe, BakeMeshes([sphere(60)], [high]))
print(json.dumps({"triangles": len(high.triangles), "maps": len(maps), "seconds": time.perf_counter() - started,
    "stages": made.seconds, "peak_gigabytes": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 / 1e9}))
"""

_FIRST_USE = """
import json, time
started = time.perf_counter()
from inkwell_cast.engine.compile_kernels import warm_up
if __name__ == "__main__":
    warm_up()
    print(json.dumps(time.perf_counter() - started))
"""


def run(code: str, *arguments: str, **environment: str) -> object:
    command = [sys.executable, "-c", code, *arguments]
    output = subprocess.run(command, check=True, capture_output=True, text=True, env=os.environ | environment).stdout
    return json.loads(output.splitlines()[-1])


def measure_large_maps(triangles: int = 20_000_000) -> dict[str, object]:
    """The normal alone and all maps but the displacement, each from nothing but the meshes, 1024², one sample."""
    return {which: run(_LARGE_MAPS, str(triangles), which) for which in ("normal", "all")}


def measure_scale(triangles: int = 20_000_000) -> object:
    """From a binary PLY to a 2048 object-space normal map, one sample."""
    with tempfile.TemporaryDirectory() as folder:
        path = pathlib.Path(folder) / "large.ply"
        write_large(path, triangles)
        run(_SCALE, str(path))  # warms the disk cache and the kernels
        return run(_SCALE, str(path))


def measure_first_use() -> dict[str, object]:
    """Starting the engine's kernels with an empty cache, and again."""
    with tempfile.TemporaryDirectory() as folder:
        seconds = [run(_FIRST_USE, NUMBA_CACHE_DIR=folder) for _ in range(2)]
    return {"first_seconds": seconds[0], "later_seconds": seconds[1]}


BAKE_LIBRARIES = "numpy, numba, scipy.linalg, scipy.spatial, pydantic"
WEB_LIBRARIES = "numpy, fastapi, uvicorn, jinja2"


def measure_starts() -> dict[str, float]:
    """Seconds from a command to its end, best of three: --help, a bake of a small piece, a server's first page."""
    with tempfile.TemporaryDirectory() as place:
        folder = pathlib.Path(place)
        low, high = folder / "ball_low.obj", folder / "ball_high.ply"
        write_mesh(low, sphere(8))
        write_mesh(high, sphere(60, 0.02, uvs=False))
        bake = ["bake", str(low), str(high), "--out", str(folder / "out"), "--size", "128", "--progress", "none"]
        for once in (["--help"], bake):
            _command(once)  # as installed: Python keeps what it compiled of the modules
        return {
            "libraries_seconds": min(_imported(BAKE_LIBRARIES) for _ in range(3)),
            "web_seconds": min(_imported(WEB_LIBRARIES) for _ in range(3)),
            "help_seconds": min(_command(["--help"]) for _ in range(3)),
            "bake_seconds": min(_command(bake) for _ in range(3)),
            "page_seconds": min(_first_page(folder / f"data{n}") for n in range(3)),
        }


def _command(words: list[str]) -> float:
    return _ended(["-m", "inkwell_cast", *words])


def _imported(libraries: str) -> float:
    return _ended(["-c", f"import {libraries}"])


def _ended(words: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run([sys.executable, *words], check=True, capture_output=True, env=_as_installed())
    return time.perf_counter() - started


def _as_installed() -> dict[str, str]:
    return {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


def _first_page(data: pathlib.Path) -> float:
    """Until a server that was just started has answered with the shelf."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    started = time.perf_counter()
    command = [sys.executable, "-m", "inkwell_cast", "serve", "--port", str(port), "--data", str(data)]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    with subprocess.Popen(command, env=_as_installed(), **quiet) as server:
        try:
            while True:
                try:
                    with urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=30) as answer:
                        answer.read()
                    return time.perf_counter() - started
                except OSError:
                    time.sleep(0.01)
        finally:
            server.terminate()
