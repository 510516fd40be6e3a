"""What leaves: a handoff, a GLB and a piece file."""

import pathlib
import shutil
import tempfile
import time
from dataclasses import replace
from typing import Any

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.handoff.bake_on_disk import Finished
from inkwell_cast.core.handoff.hand_off import hand_off
from inkwell_cast.core.handoff.piece_file import read_piece, write_meshes
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.handoff import Handoff, Pack, Well
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from .shapes import sphere

RUNS = 3


def measure() -> dict[str, Any]:
    """A handoff at 2048² with a packed picture, over copying its files; a million triangles as GLB and as a piece."""
    low, high = sphere(60), replace(sphere(1000, 0.02, uvs=False), name="high", object_names=("high",))
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.2, inward=0.2),
        sheet=Sheet(samples=1),
        occlusion=Occlusion(rays=1),
        output=Output(maps=["normal", "occlusion"]),
    )
    made = bake(recipe, BakeMeshes([low], [high]))
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        own = Finished.of_folder(
            "Sphere", save(made, folder / "bake", None, folder / "bake"), folder / "bake", folder / "bake"
        )
        packs = [Pack(red=Well(map="occlusion"), green=Well(map="normal"), blue=Well(map="normal", channel="green"))]
        times = []
        for n in range(RUNS):
            started = time.perf_counter()
            done = hand_off(own, made.assembly, made.warm, Handoff(packs=packs), folder / f"out{n}")
            times.append(time.perf_counter() - started)
        started = time.perf_counter()
        shutil.copytree(done.path, folder / "copy")
        copied = time.perf_counter() - started
        started = time.perf_counter()
        write_mesh(folder / "high.glb", high)
        glb = time.perf_counter() - started
        started = time.perf_counter()
        write_meshes(folder / "piece.icast", "Sphere", recipe, [(low, "0" * 64), (high, "1" * 64)])
        saved = time.perf_counter() - started
        started = time.perf_counter()
        read_piece(folder / "piece.icast")
        opened = time.perf_counter() - started
        return {
            "seconds": min(times),
            "copy_seconds": copied,
            "files": len(done.manifest.files) + 1,
            "megabytes": sum(file.bytes for file in done.manifest.files) / 1e6,
            "glb_seconds": glb,
            "triangles": len(high.triangles),
            "save_seconds": saved,
            "open_seconds": opened,
            "piece_megabytes": (folder / "piece.icast").stat().st_size / 1e6,
        }
