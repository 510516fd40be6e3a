"""The ferry's lantern, in millimetres, Y up: a globe of amber glass that glows, in a cage of iron bars between a brass
foot and a vented cap; the light of the globe falls on all of them.
"""

import pathlib

import numpy as np

from ..core.base.array_types import F64
from ..core.mesh.mesh import Mesh
from .parts import DemoPart, meshes_of, written
from .shapes import bump, curve, refined, turned

TITLE = "Ferry lantern"
MATERIALS = {"brass": (0.62, 0.42, 0.16), "iron": (0.22, 0.21, 0.20), "amber glass": (0.75, 0.38, 0.09)}
GLOWING = {"amber glass": (4.0, 2.1, 0.55)}
BARS, AROUND = 8, 33.0  # bars of the cage, and how far out they stand


def _foot() -> DemoPart:
    outline = [(0, 0), (40, 0), (42, 2), (42, 6), (38, 8), (37, 11), (39, 13), (39, 15), (27, 15.4), (0, 15.4)]

    def rope(angle: F64, radius: F64, z: F64) -> F64:
        return 0.5 * bump(z - 4, 1.8) * (radius > 40) * np.sin(angle * 72 + z * 1.6)

    fine = refined(curve(outline, 1.2, 6), 0.9)
    coarse = [(0, 0), (40, 0), (42, 2), (42, 6), (37.6, 8.6), (39, 13), (39, 15), (0, 15.4)]
    low = turned(coarse, 28, bends=(1, 6), worths=(0.25, 1.0, 0.8))
    return DemoPart("foot", "brass", turned(fine, 216, rope), low)


def _globe() -> DemoPart:
    outline = [(0, 17), (16, 17), (19, 19), (23, 28), (25, 42), (25, 50), (23, 64), (19, 73), (16, 75), (0, 75)]

    def ribs(angle: F64, radius: F64, z: F64) -> F64:
        band = np.clip((z - 22) / 6, 0, 1) * np.clip((70 - z) / 6, 0, 1)
        return 0.55 * band * np.cos(angle * 14) + 0.25 * band * np.sin(z * 1.1)

    fine = refined(curve(outline, 3.0, 6), 0.9)
    coarse = [
        (0, 17),
        (16, 17),
        (19, 19.4),
        (22.8, 28),
        (24.7, 39),
        (24.7, 53),
        (22.8, 64),
        (19, 72.6),
        (16, 75),
        (0, 75),
    ]
    low = turned(coarse, 24, bends=(1, 8), worths=(0.2, 1.0, 0.2))
    return DemoPart("globe", "amber glass", turned(fine, 168, ribs), low)


def _cap() -> DemoPart:
    outline = [
        (0, 76.4),
        (27, 76.8),
        (39, 77),
        (39.5, 78),
        (39.5, 80),
        (37, 82),
        (31, 86),
        (26, 92),
        (24, 97),
        (18, 100),
        (9, 102),
        (5, 104),
        (5.4, 107),
        (7, 109.4),
        (6, 112.4),
        (3, 114),
        (0, 114.4),
    ]

    def vents(angle: F64, radius: F64, z: F64) -> F64:
        band = np.clip((z - 86.5) / 1.5, 0, 1) * np.clip((95.5 - z) / 1.5, 0, 1)
        return -1.1 * band * np.clip(np.cos(angle * 16), 0, 1) ** 0.5

    fine = refined(curve(outline, 1.4, 5), 0.9)
    coarse = [
        (0, 76.4),
        (39, 77),
        (39.5, 80),
        (31, 86),
        (26, 92),
        (24, 97),
        (9, 102),
        (5, 105),
        (7, 109.4),
        (5.4, 112.8),
        (0, 114.4),
    ]
    low = turned(coarse, 28, bends=(1, 6), worths=(0.8, 1.0, 0.8))
    return DemoPart("cap", "brass", turned(fine, 216, vents), low)


def _bars() -> list[DemoPart]:
    outline = [(0, 14.2), (1.8, 14.2), (2.2, 15.6), (1.9, 18), (1.9, 74), (2.2, 76), (1.8, 77.4), (0, 77.4)]

    def hammered(angle: F64, radius: F64, z: F64) -> F64:
        return 0.12 * np.sin(angle * 3 + z * 0.9) * np.sin(z * 0.37 + 1.3) * (radius > 1.2)

    fine = refined(curve(outline, 0.4, 4), 0.5)
    coarse = [(0, 14.2), (1.9, 14.2), (2.1, 16), (1.95, 46), (2.1, 75.6), (1.9, 77.4), (0, 77.4)]
    turns = 2 * np.pi * (np.arange(BARS) + 0.5) / BARS
    return [
        DemoPart(
            f"bar_{n}", "iron", turned(fine, 28, hammered), turned(coarse, 8, bends=(1, 5), worths=(0.5, 1.0, 0.5))
        ).placed((AROUND * float(np.cos(a)), AROUND * float(np.sin(a)), 0))
        for n, a in enumerate(turns, 1)
    ]


def _hoop() -> DemoPart:
    """A flat ring around the bars, half way up."""
    inner, outer = AROUND + 2.0, AROUND + 4.2
    outline: list[tuple[float, float]] = [(inner, 44), (outer, 44), (outer, 50), (inner, 50), (inner, 44)]

    def beaded(angle: F64, radius: F64, z: F64) -> F64:
        return 0.35 * bump(z - 47, 1.4) * (radius > AROUND + 3) * np.sin(angle * 48) ** 2

    fine = refined(curve(outline, 0.6, 5), 0.4)
    return DemoPart("hoop", "iron", turned(fine, 260, beaded), turned(outline, 32, bends=(1, 2, 3)))


def build() -> tuple[Mesh, Mesh]:
    """The low and the high of the lantern."""
    return meshes_of([_foot(), _globe(), _cap(), _hoop(), *_bars()], MATERIALS, "lantern", 3.0, GLOWING)


def write(folder: pathlib.Path) -> tuple[pathlib.Path, ...]:
    """Write the two files; returns their paths, low first."""
    return written(folder, build())
