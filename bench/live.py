"""What follows the hand: the live proof at a million triangles, and what a full bake beside it delays."""

import pathlib
import statistics
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from typing import Any

from inkwell_cast.core.bake.manifest import sha256_of
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.mesh.binary_message import write_packed
from inkwell_cast.core.settings.editing import add_pocket, add_stroke
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Stroke
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.engine.lanes import Lanes
from inkwell_cast.engine.messages import (
    BakeInto,
    Cover,
    Draw,
    Job,
    JudgeProof,
    Load,
    ProbeAt,
    SectionAt,
    ShowProof,
    Source,
)

from .shapes import sphere

RECIPE = Recipe(reach=Reach(outward=3, inward=3), sheet=Sheet(width=2048, height=2048, samples=4))
BESIDE = RECIPE.model_copy(update={"output": Output(maps=["normal", "occlusion"])})
OFTEN = 8


def measure() -> dict[str, Any]:
    """Seconds as a page waits for them, through the lanes; medians of several, and the worst where it says so."""
    with tempfile.TemporaryDirectory() as name, closing(Lanes()) as lanes:
        folder = pathlib.Path(name)
        low, high = replace(sphere(60), name="low.obj", object_names=("ball_low",)), sphere(1000, 0.02, uvs=False)
        high = replace(high, name="high.ply", object_names=("ball_high",))
        sources = [_source(folder, low), _source(folder, high)]

        def seconds(job: Job) -> float:
            started = time.perf_counter()
            lanes.submit(job).future.result()
            return time.perf_counter() - started

        def reach(n: float) -> Recipe:
            return RECIPE.model_copy(update={"reach": Reach(outward=n, inward=3)})

        started = time.perf_counter()
        for lane in (lanes.hand, lanes.reading, lanes.long):  # that of checks starts when one is asked for
            lane.ready.wait()
        found: dict[str, Any] = {"start_seconds": time.perf_counter() - started}
        found["first_low_seconds"] = seconds(Draw(RECIPE, sources, "low", str(folder / "view")))
        stand_in = Draw(RECIPE, sources, "sculpt", str(folder / "view"), "high.ply", ("ball_high",))
        found["first_stand_in_seconds"] = seconds(stand_in)
        found["first_picture_seconds"] = seconds(ShowProof(RECIPE, sources, "normal"))
        seconds(JudgeProof(RECIPE, sources, "normal"))
        place = tuple(low.positions[500].tolist())
        points = [tuple(p) for p in low.positions[1000:1010].tolist()]

        def shown(change: Callable[[int], Recipe]) -> float:
            """The median from a change to its picture; before each the proof stands as it was."""
            spent = []
            for n in range(OFTEN // 2):
                seconds(JudgeProof(RECIPE, sources, "normal"))
                spent.append(seconds(ShowProof(change(n), sources, "normal")))
            return statistics.median(spent)

        found["pocket_seconds"] = shown(lambda n: add_pocket(RECIPE, place))
        found["stroke_seconds"] = shown(lambda n: add_stroke(RECIPE, _stroke(points[: n + 2], low.diagonal)))
        found["reach_seconds"] = shown(lambda n: reach(3.1 + n / 10))
        drawn = [seconds(ShowProof(reach(4 + n / 100), sources, "normal", True)) for n in range(OFTEN)]
        found["drag_reach_per_second"] = 1 / statistics.median(drawn[2:])
        stroke = [add_stroke(RECIPE, _stroke(points[: n + 2], low.diagonal)) for n in range(OFTEN)]
        drawn = [seconds(ShowProof(each, sources, "normal", True)) for each in stroke]
        found["drag_stroke_per_second"] = 1 / statistics.median(drawn[2:])
        found["judged_seconds"] = seconds(JudgeProof(reach(5), sources, "normal"))
        return found | _beside(lanes, sources, folder, seconds)


def _beside(
    lanes: Lanes, sources: list[Source], folder: pathlib.Path, seconds: Callable[[Job], float]
) -> dict[str, Any]:
    """What others wait while a 2048² bake with occlusion is at work on both cores."""
    write_mesh(folder / "small.obj", sphere(80))
    size = (folder / "small.obj").stat().st_size
    probe = ProbeAt(RECIPE.proof(), sources, "", 200, 200)
    section = SectionAt(RECIPE, sources, 0, tuple(sphere(60).positions[0].tolist()), 0.0, 1.0, "u", (0.0, 0.0, 1.0))
    seconds(probe), seconds(section)
    alone = {"probe": statistics.median(seconds(probe) for _ in range(OFTEN))}
    (folder / "bake").mkdir()
    casting = threading.Event()
    bake = lanes.submit(
        BakeInto(BESIDE, sources, str(folder / "bake")),
        lambda stage, share: casting.set() if stage.startswith("casting") else None,
    )
    casting.wait()
    found: dict[str, Any] = {"file_megabytes": size / 1e6, "probe_alone_seconds": alone["probe"]}
    for name, job in (
        ("probe", probe),
        ("section", section),
        ("coverage", Cover(RECIPE, sources, "piece")),
        ("file", Load(str(folder / "small.obj"), "small.obj", str(folder / "copy"))),
        ("picture", ShowProof(BESIDE, sources, "normal", True)),
    ):
        found[f"{name}_beside_seconds"] = max(seconds(job) for _ in range(OFTEN))
    found["still_baking"] = not bake.future.done()
    bake.stop()
    return found


def _stroke(points: list[Any], diagonal: float) -> Stroke:
    return Stroke(kind="out", points=points, radius=0.03 * diagonal, amount=0.004 * diagonal)


def _source(folder: pathlib.Path, mesh: Any) -> Source:
    path = folder / f"{mesh.name}.packed"
    write_packed(path, mesh)
    return Source(str(path), mesh.name, sha256_of(path))
