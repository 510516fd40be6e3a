"""How time and memory grow: with triangles, texels, samples, rays, parts and threads, each in a process of its own.

`measure` gives the figures; `drawn` their curves as an SVG, with the exponent of the last stretch of each.
"""

import json
import math
import pathlib
import re
import subprocess
import sys
import time
from dataclasses import replace
from typing import Any

import numba
import numpy as np

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.mesh.mesh import Mesh, merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from .shapes import sphere

MILLION = 1_000_000
CASES: dict[str, tuple[int, ...]] = {
    "triangles": (MILLION // 10, MILLION, 5 * MILLION, 20 * MILLION),
    "texels": (512**2, 1024**2, 2048**2, 4096**2, 8192**2, 16384**2),
    "samples": (1, 4, 16, 64),
    "rays": (16, 64, 256, 1024),
    "parts": (1, 10, 100, 500),
    "threads": (1, 2),
}
OF = {
    "triangles": "1024², one sample, normal; the scene built",
    "texels": "100,000 triangles, one sample, normal",
    "samples": "a million triangles, 1024², normal",
    "rays": "a million triangles, 512², occlusion with all its rays",
    "parts": "pairs of half a million triangles in all, 1024², four samples",
    "threads": "a million triangles, 2048², four samples, cast alone",
}
WIDE, HIGH, PLOT = 350, 190, (56, 34, 226, 120)  # of a plot, and x, y, width and height of its frame


def measure() -> dict[str, Any]:
    """Seconds and peak of each case by its value, and the exponent of either over the last stretch."""
    found: dict[str, Any] = {}
    for case, values in CASES.items():
        rows = []
        for value in values:
            done = subprocess.run(
                [sys.executable, "-m", "bench.growth", case, str(value)], capture_output=True, text=True, check=True
            )
            rows.append({"value": value, **json.loads(done.stdout.splitlines()[-1])})
            print(case, rows[-1], flush=True)
        found[case] = {"rows": rows, **{what: _exponent(rows, what) for what in ("seconds", "peak")}}
    return found


def _exponent(rows: list[dict[str, float]], what: str) -> float:
    """Of the last stretch: 1 where twice as much takes twice as long."""
    before, last = rows[-2], rows[-1]
    return math.log(last[what] / before[what]) / math.log(last["value"] / before["value"])


def run(case: str, value: int) -> dict[str, float]:
    """Seconds and peak memory in GB of one bake, kernels ready."""
    _bake(sphere(40), sphere(60, 0.02, uvs=False), 64, 4, ["normal", "occlusion"])  # so that kernels are there
    low, high, size, samples, maps, rays = sphere(60), None, 1024, 1, ["normal"], 64
    if case == "triangles":
        high = sphere(int(value**0.5), 0.02, uvs=False)
    elif case == "texels":
        high, size = sphere(316, 0.02, uvs=False), round(value**0.5)
    elif case == "parts":
        low, high, samples = *_parts(value), 4
    else:
        high = sphere(1000, 0.02, uvs=False)
        samples = value if case == "samples" else samples
        if case == "rays":
            maps, rays, size = ["normal", "occlusion"], value, 512
        if case == "threads":
            numba.set_num_threads(value)
            size, samples = 2048, 4
    started = time.perf_counter()
    cast = _bake(low, high, size, samples, maps, rays)
    seconds = cast if case == "threads" else time.perf_counter() - started
    return {"seconds": seconds, "peak": _peak()}


def _peak() -> float:
    """The highest resident size of this process in GB; what `getrusage` says begins with that of its parent."""
    status = pathlib.Path("/proc/self/status").read_text()
    return int(re.findall(r"VmHWM:\s+(\d+)", status)[0]) / 1e6


def _bake(low: Mesh, high: Mesh, size: int, samples: int, maps: list[str], rays: int = 4) -> float:
    """Bake; seconds of the cast."""
    recipe = Recipe(
        reach=Reach(outward=3, inward=3),
        output=Output.model_validate({"maps": maps}),
        sheet=Sheet.model_validate({"width": size, "height": size, "samples": samples}),
        occlusion=Occlusion(rays=rays, noise=0),
    )
    return float(bake(recipe, BakeMeshes([low], [high]), warm=Warm()).seconds["casting"])


def _parts(count: int) -> tuple[Mesh, Mesh]:
    """Balls in rows, each a pair, of half a million triangles in all."""
    side, lows, highs = math.ceil(count**0.5), [], []
    for n in range(count):
        place, cell = np.float32([3 * (n % side), 3 * (n // side), 0]), np.float32([n % side, n // side])
        for into, mesh, suffix in (
            (lows, sphere(16), "low"),
            (highs, sphere(max(int((500_000 / count) ** 0.5), 8), 0.02), "high"),
        ):
            uv = replace(mesh.uvs[0], values=((0.02 + 0.96 * mesh.uvs[0].values + cell) / side).astype(np.float32))
            name = f"ball{n:03}_{suffix}"
            into.append(replace(mesh, name=name, object_names=(name,), positions=mesh.positions + place, uvs=(uv,)))
    return merge(lows, "balls_low"), merge(highs, "balls_high")


def drawn(growth: dict[str, Any]) -> str:
    """The curves as an SVG: seconds full, peak memory dashed, both axes logarithmic."""
    plots = [_plot(n, case, growth[case]) for n, case in enumerate(c for c in CASES if c in growth)]
    rows = -(-len(plots) // 3)
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{3 * WIDE}" height="{rows * HIGH}" '
        f'viewBox="0 0 {3 * WIDE} {rows * HIGH}" font-family="sans-serif" font-size="11" fill="#333">\n'
        f'<rect width="100%" height="100%" fill="#fbf8f1"/>\n{"".join(plots)}</svg>\n'
    )


def _plot(number: int, case: str, found: dict[str, Any]) -> str:
    left, top, width, height = PLOT
    x0, y0 = number % 3 * WIDE + left, number // 3 * HIGH + top
    rows, parts = found["rows"], []
    lowest, highest = math.log(rows[0]["value"]), math.log(rows[-1]["value"])
    for what, dashes, unit in (("seconds", "", "s"), ("peak", ' stroke-dasharray="4 3"', "GB")):
        logs = [math.log10(row[what]) for row in rows]
        bottom, span = math.floor(min(logs)), max(math.ceil(max(logs)) - math.floor(min(logs)), 1)
        points = [
            (
                x0 + width * (math.log(row["value"]) - lowest) / (highest - lowest),
                y0 + height * (1 - (v - bottom) / span),
            )
            for row, v in zip(rows, logs, strict=True)
        ]
        line = " ".join(f"{x:.1f},{y:.1f}" for x, y in points)
        parts.append(f'<polyline points="{line}" fill="none" stroke="#1c7366" stroke-width="1.6"{dashes}/>')
        side = x0 - 6 if unit == "s" else x0 + width + 6
        anchor = "end" if unit == "s" else "start"
        for power, y in ((bottom, y0 + height), (bottom + span, y0 + 4)):
            parts.append(f'<text x="{side}" y="{y}" text-anchor="{anchor}">{10.0**power:g} {unit}</text>')
    ends = "".join(
        f'<text x="{x}" y="{y0 + height + 14}" text-anchor="{anchor}">{rows[n]["value"]:,}</text>'
        for n, x, anchor in ((0, x0, "start"), (-1, x0 + width, "end"))
    )
    title = f"{case}: time {found['seconds']:+.2f}, memory {found['peak']:+.2f}"
    return (
        f'<g><text x="{x0}" y="{y0 - 12}" font-weight="bold">{title}</text>'
        f'<rect x="{x0}" y="{y0}" width="{width}" height="{height}" fill="none" stroke="#cdbfa5"/>'
        f"{''.join(parts)}{ends}</g>\n"
    )


if __name__ == "__main__":
    print(json.dumps(run(sys.argv[1], int(sys.argv[2]))))
