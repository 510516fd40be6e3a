"""Many machines: one large bake on workers of this one, and on how many it would still pay, worked out from that.

`measure` bakes the same sheet with one thread, with two, and with one and two workers of one thread. `simulated` walks
through the same bake on many machines with what was measured: bytes, building, tracing, putting in place, a network.
"""

import json
import pathlib
import subprocess
import sys
import time
from typing import Any

import numba
import numpy as np

from inkwell_cast.core.bake.bands import find_band
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.mesh.binary_message import packed
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.engine.cluster.client import BANDS, BANDS_A_WORKER, Cluster

from .shapes import sphere

DOCS = pathlib.Path(__file__).parent.parent / "docs"
TRIANGLES, SIDE, RAYS = 1_000_000, 4096, 16
WAYS = {"one thread": 1, "two threads": 2, "one worker": -1, "two workers": -2}
WORKERS = (1, 2, 4, 8, 16, 32, 64, 128, 256, 512)
NETWORKS = {"1 Gbit/s": 125e6, "10 Gbit/s": 1.25e9}  # bytes a second, each way of each machine
LATENCY = 0.005  # seconds from a band's end to the next one's start
PAYS = 0.1  # of the time that twice as many machines must save at least


def piece() -> BakeMeshes:
    return BakeMeshes([sphere(60)], [sphere(int(TRIANGLES**0.5), 0.02, uvs=False)])


def recipe(side: int) -> Recipe:
    return Recipe(
        reach=Reach(outward=3, inward=3),
        sheet=Sheet(width=side, height=side, samples=1),
        output=Output(maps=["occlusion"]),
        occlusion=Occlusion(rays=RAYS, noise=0),
    )


def measure() -> dict[str, Any]:
    """Seconds of casting each way, each in a process of its own, and the costs that make them up."""
    found: dict[str, Any] = {}
    for name in (*WAYS, "costs"):
        done = subprocess.run([sys.executable, "-m", "bench.cluster", name], capture_output=True, text=True, check=True)
        found[name] = json.loads(done.stdout.splitlines()[-1])
        print(name, found[name], flush=True)
    return found


def one_way(way: int) -> dict[str, float]:
    """Seconds of the casting of a bake with so many threads, or workers where negative, all of it warm."""
    meshes = piece()
    if way > 0:
        numba.set_num_threads(way)
        bake(recipe(256), meshes)
        return {"seconds": bake(recipe(SIDE), meshes).seconds["casting"]}
    cluster = Cluster(f"local:{-way}")
    try:
        bake(recipe(256), meshes, elsewhere=cluster)  # meshes travel, scenes are built
        return {"seconds": bake(recipe(SIDE), meshes, elsewhere=cluster).seconds["casting"]}
    finally:
        cluster.close()


def costs() -> dict[str, Any]:
    """What a band costs with one thread: bytes of the meshes, seconds to build and to trace, bytes and seconds back."""
    from inkwell_cast.core.bake.bands import Band, put, texels_of
    from inkwell_cast.core.bake.cast_cache import laid_out
    from inkwell_cast.core.cast.hits import empty_cast
    from inkwell_cast.core.maps import LAYERS
    from inkwell_cast.core.maps.layer import empty
    from inkwell_cast.core.piece.assembly import assemble
    from inkwell_cast.core.piece.scene_cache import Warm

    numba.set_num_threads(1)
    meshes, warm, whole = piece(), Warm(), recipe(SIDE)
    find_band(recipe(256), meshes, Band(0, np.arange(4), ("occlusion",)), Warm())
    started = time.perf_counter()
    find_band(whole, meshes, Band(0, np.arange(1), ("occlusion",)), warm)
    build = time.perf_counter() - started
    grid = laid_out(assemble(whole, meshes, warm), meshes, warm).sheets[0].low.grid
    tiles = grid.tiles_across**2
    cast = empty_cast(grid)
    layers, seconds, back, size = {"occlusion": empty(LAYERS["occlusion"], cast)}, [], [], 0
    for part in np.array_split(np.arange(tiles), 256)[::12]:
        started = time.perf_counter()
        found = find_band(whole, meshes, Band(0, part, ("occlusion",)), warm)
        seconds.append((time.perf_counter() - started) / len(part))
        started = time.perf_counter()
        put(found, grid, cast, layers)
        back.append((time.perf_counter() - started) / len(part))
        arrays = [*found.cast.values(), *found.layers.values()]
        size = sum(array.nbytes for array in arrays) // len(texels_of(grid, part))
    sent = sum(len(block) for mesh in (*meshes.lows, *meshes.highs) for block in packed(mesh))
    return {
        "mesh_bytes": sent,
        "build_seconds": build,
        "tiles": int(tiles),
        "tile_seconds": seconds,
        "texel_bytes": size,
        "put_seconds_a_tile": float(np.mean(back)),
    }


def simulated(cost: dict[str, Any], workers: int, network: float) -> float:
    """Seconds from the start of a bake to its last band, on so many machines of one thread that have nothing yet.

    Meshes go from machine to machine, each that has them giving them on; a band is given to who is free; what it found
    comes back through the one line of the one who asked, who puts it in place.
    """
    arrive = cost["mesh_bytes"] / network * np.ceil(np.log2(np.arange(workers) + 2))  # the first gets them first
    free = arrive + cost["build_seconds"]
    count = int(np.clip(cost["tiles"] // 8, 1, max(BANDS, BANDS_A_WORKER * workers)))
    each = np.random.default_rng(1).choice(cost["tile_seconds"], count) * cost["tiles"] / count
    back = cost["tiles"] / count * (32 * 32 * cost["texel_bytes"] / network + cost["put_seconds_a_tile"])
    ends = []
    for seconds in each:
        first = int(np.argmin(free))
        free[first] += LATENCY + seconds
        ends.append(free[first])
    line = 0.0
    for end in sorted(ends):
        line = max(line, end) + back
    return float(line)


def page(found: dict[str, Any]) -> str:
    """docs/scale.md."""
    cost, one = found["costs"], found["one thread"]["seconds"]
    two, worker, workers = (found[name]["seconds"] for name in ("two threads", "one worker", "two workers"))
    mean = float(np.mean(cost["tile_seconds"])) * cost["tiles"]
    lines = [
        "# Many machines",
        "",
        f"Written by `python -m bench.cluster` on {found['machine']}. A {SIDE}² sheet of occlusion with {RAYS} rays a texel",
        f"over a sculpt of {TRIANGLES:,} triangles, cast and gathered; all ways in one run, scenes built before.",
        "",
        "| way | seconds | of the threads |",
        "| --- | --- | --- |",
        f"| one process, one thread | {one:.0f} | 1 |",
        f"| one process, two threads | {two:.0f} | {one / two / 2:.2f} |",
        f"| one worker of one thread | {worker:.0f} | {one / worker:.2f} |",
        f"| two workers of one thread | {workers:.0f} | {one / workers / 2:.2f} |",
        "",
        f"Two workers take {workers / two:.2f} times as long as two threads of one process; the aim is at most 1.11, which is 0.9 of",
        "the threads. The one who asks takes part of the same two processors for what comes back: 3.1 of 29.7 seconds of them at 2048².",
        "",
        "## Worked out for many",
        "",
        "The same bake, walked through band by band with what was measured: meshes of "
        f"{cost['mesh_bytes'] / 1e6:.0f} MB, {cost['build_seconds']:.1f} s to build,",
        f"{mean:.0f} s of tracing with one thread, {cost['texel_bytes']} bytes a texel back, "
        f"{cost['put_seconds_a_tile'] * cost['tiles']:.1f} s to put all in place, {LATENCY * 1000:.0f} ms a band. Machines have one",
        "thread each and nothing of the piece yet. *Pays* is until twice as many save less than a tenth.",
        "",
        "![Seconds against machines](scale.svg)",
        "",
        f"| machines | {' | '.join(NETWORKS)} |",
        f"| --- |{' --- |' * len(NETWORKS)}",
    ]
    times = {name: [simulated(cost, n, speed) for n in WORKERS] for name, speed in NETWORKS.items()}
    for row, n in enumerate(WORKERS):
        cells = [f"{times[name][row]:.1f} s, {times[name][0] / times[name][row] / n:.2f}" for name in NETWORKS]
        lines.append(f"| {n} | {' | '.join(cells)} |")
    for name, seconds in times.items():
        most = next(
            (WORKERS[n] for n in range(len(WORKERS) - 1) if seconds[n + 1] > (1 - PAYS) * seconds[n]), WORKERS[-1]
        )
        lines += ["", f"With {name} it pays up to {most} machines of one thread: then what comes back fills the line."]
    lines += [
        "",
        "Whole pieces of a batch share nothing but their meshes, which come once to each machine; they pay as long as there",
        "are more pieces than machines.",
        "",
    ]
    return "\n".join(lines)


def drawn(cost: dict[str, Any]) -> str:
    """docs/scale.svg: seconds against machines, both axes logarithmic, and what would be without any cost."""
    left, top, width, height = 56, 20, 480, 220
    times = {name: [simulated(cost, n, speed) for n in WORKERS] for name, speed in NETWORKS.items()}
    ideal = [next(iter(times.values()))[0] / n for n in WORKERS]
    low, high = np.log10(min(ideal)), np.log10(max(max(each) for each in times.values()))

    def points(seconds: list[float]) -> str:
        return " ".join(
            f"{left + width * np.log2(n) / np.log2(WORKERS[-1]):.1f},{top + height * (high - np.log10(s)) / (high - low):.1f}"
            for n, s in zip(WORKERS, seconds, strict=True)
        )

    parts = [f'<polyline points="{points(ideal)}" fill="none" stroke="#b3a890" stroke-dasharray="4 3"/>']
    for (name, seconds), color in zip(times.items(), ("#2f6f67", "#8a3b2a"), strict=True):
        line = points(seconds)
        x, y = line.rpartition(" ")[2].split(",")
        parts.append(f'<polyline points="{line}" fill="none" stroke="{color}" stroke-width="2"/>')
        parts.append(f'<text x="{float(x) + 6}" y="{float(y) + 4}" fill="{color}">{name}</text>')
    parts += [
        f'<text x="{left + width * np.log2(n) / np.log2(WORKERS[-1]):.0f}" y="{top + height + 18}" text-anchor="middle">{n}</text>'
        for n in WORKERS
    ]
    for power in range(int(np.ceil(low)), int(np.floor(high)) + 1):
        y = top + height * (high - power) / (high - low)
        parts.append(f'<text x="{left - 8}" y="{y + 4:.0f}" text-anchor="end">{10**power} s</text>')
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="640" height="280" viewBox="0 0 640 280" font-family="sans-serif" '
        f'font-size="11" fill="#333"><rect width="100%" height="100%" fill="#fbf8f1"/>{"".join(parts)}'
        f'<text x="{left + width / 2}" y="276" text-anchor="middle">machines of one thread; dashed: without any cost</text></svg>\n'
    )


def main() -> None:
    import os
    import platform

    found = measure()
    found["machine"] = f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}"
    (DOCS / "scale.json").write_text(json.dumps(found, indent=2) + "\n")
    (DOCS / "scale.md").write_text(page(found))
    (DOCS / "scale.svg").write_text(drawn(found["costs"]))


if __name__ == "__main__":
    if len(sys.argv) == 1:
        main()
    else:
        print(json.dumps(costs() if sys.argv[1] == "costs" else one_way(WAYS[sys.argv[1]])))
