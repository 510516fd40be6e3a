"""The harbour-master's inkstand, in millimetres, Y up: a brass tray on feet, two glass wells with hinged lids
(mirrored, sharing their UVs), an ebony pen rest, an engraved plate and floating rivets.
"""

import pathlib

import numpy as np

from ..core.base.array_types import F64
from ..core.mesh.mesh import Mesh
from . import TOUR_ON
from .lettering import distance_to, strokes_of
from .parts import DemoPart, meshes_of, written
from .shapes import bump, curve, refined, rounded_box, spaced, turned

TITLE = TOUR_ON
MATERIALS = {
    "brass": (0.62, 0.42, 0.16),
    "ink glass": (0.05, 0.24, 0.30),
    "ebony": (0.09, 0.06, 0.05),
    "bone": (0.78, 0.70, 0.55),
}
WELL_X, WELL_Y = 56.0, 8.0


def _rectangle(x: F64, y: F64, half: tuple[float, float], radius: float) -> F64:
    """Signed distance to a rounded rectangle."""
    qx, qy = np.abs(x) - half[0] + radius, np.abs(y) - half[1] + radius
    return np.hypot(np.maximum(qx, 0), np.maximum(qy, 0)) + np.minimum(np.maximum(qx, qy), 0) - radius


def _tray() -> DemoPart:
    size = (220.0, 124.0, 14.0)

    def relief(x: F64, y: F64) -> F64:
        frame = _rectangle(x, y, (98, 50), 10)
        seats = np.minimum(np.hypot(np.abs(x) - WELL_X, y - WELL_Y) - 33.5, 1e9)
        waves = np.sin(x / 3.2 + np.sin(y / 9) * 1.5) * bump(frame + 9, 2.6)
        return 0.9 * bump(frame, 1.7) - 0.7 * bump(frame + 4.2, 1.2) - 0.7 * bump(seats, 1.3) + 0.35 * waves

    fine = [spaced(110, 4, 232, 6), spaced(62, 4, 128, 6), spaced(7, 4, 6, 6)]
    coarse = [spaced(110, 4, 3, 1), spaced(62, 4, 2, 1), spaced(7, 4, 1, 1)]
    worths = {"bottom": 0.3}
    return DemoPart(
        "tray", "brass", rounded_box(size, 4, fine, relief), rounded_box(size, 4, coarse, worths=worths)
    ).placed((0, 0, 17))


def _foot(name: str, x: float, y: float) -> DemoPart:
    outline = [(0, 0), (6, 0), (9.5, 3.5), (9.8, 6.5), (7.2, 9), (8.6, 10.4), (8.6, 11.4), (0, 11.4)]
    fine = refined(curve(outline, 1.6, 6), 0.7)
    coarse = [(0, 0), (6, 0.1), (9.4, 3.4), (9.6, 6.6), (7.6, 9), (8.6, 11.3), (0, 11.4)]
    low = turned(coarse, 12, bends=(1, 5), worths=(0.4, 1.0, 0.3))
    return DemoPart(name, "brass", turned(fine, 72), low).placed((x, y, 0))


def _well() -> DemoPart:
    outline = [
        (0, 0),
        (30, 0),
        (31.5, 1.5),
        (31.5, 4),
        (29, 5.5),
        (28.5, 8),
        (28.5, 30),
        (29, 32),
        (31, 33),
        (31, 36.5),
        (29, 38),
        (0, 38),
    ]

    def flutes(angle: F64, radius: F64, z: F64) -> F64:
        band = np.clip((z - 9) / 3, 0, 1) * np.clip((29 - z) / 3, 0, 1)
        return -0.9 * band * np.abs(np.sin(angle * 12)) ** 0.7 * (radius > 20)

    fine = refined(curve(outline, 1.2, 6), 0.85)
    coarse = [
        (0, 0),
        (30, 0),
        (31.5, 1.5),
        (31.5, 4),
        (28.6, 6),
        (28.5, 19),
        (28.6, 31.6),
        (31, 33),
        (31, 36.5),
        (29, 38),
        (0, 38),
    ]
    low = turned(coarse, 24, bends=(1, 9), worths=(0.25, 1.0, 0.25))
    return DemoPart("well_left", "ink glass", turned(fine, 192, flutes), low).placed((-WELL_X, WELL_Y, 23.6))


def _lid() -> DemoPart:
    outline = [
        (0, 0),
        (31, 0),
        (32.5, 1),
        (32.5, 4),
        (30.5, 5.5),
        (29, 7),
        (24, 13),
        (15, 17.5),
        (6, 19.2),
        (3.6, 20.2),
        (3.2, 22.4),
        (4.4, 23.6),
        (6.2, 26.5),
        (5.4, 30),
        (2.6, 32),
        (0, 32.4),
    ]

    def petals(angle: F64, radius: F64, z: F64) -> F64:
        ring = np.clip((z - 8) / 2, 0, 1) * np.clip((18 - z) / 2, 0, 1)
        rope = bump(z - 2.5, 1.6) * (radius > 31) * np.sin(angle * 60 + z * 2)
        return 0.8 * ring * np.cos(angle * 10) ** 2 + 0.35 * rope

    fine = refined(curve(outline, 1.6, 5), 0.9)
    coarse = [
        (0, 0),
        (31, 0.1),
        (32.5, 1),
        (32.5, 4),
        (29.4, 6.6),
        (24, 13),
        (15, 17.5),
        (5.6, 19.4),
        (3.3, 21.4),
        (6, 25.4),
        (5.4, 30),
        (0, 32.4),
    ]
    low = turned(coarse, 24, bends=(1, 4, 8), worths=(0.2, 1.0, 1.0, 1.0))
    return DemoPart("lid_left", "brass", turned(fine, 180, petals), low).placed((-WELL_X, WELL_Y, 61.4))


def _hinge() -> DemoPart:
    outline = [(0, -11), (3.4, -11), (3.4, 11), (0, 11)]

    def knuckles(angle: F64, radius: F64, z: F64) -> F64:
        return np.asarray(-0.7 * (radius > 2) * sum(bump(z - c, 0.7) for c in (-6.6, -2.2, 2.2, 6.6)), np.float64)

    fine = refined(curve(outline, 0.8, 6), 0.22)
    low = turned([(0, -11), (3.4, -11), (3.4, 11), (0, 11)], 14, bends=(1, 2))
    lying = np.array([[0, 0, 1], [1, 0, 0], [0, 1, 0]], np.float64)
    return DemoPart("hinge_left", "brass", turned(fine, 80, knuckles), low).placed((-WELL_X, WELL_Y + 35, 62.5), lying)


def _pen_rest() -> DemoPart:
    def dip(x: F64, y: F64) -> F64:
        return np.asarray(-5.0 * sum(bump(x - c, 8.0) for c in (-15.0, 15.0)), np.float64)

    def carved(x: F64, y: F64) -> F64:
        return dip(x, y) - 0.5 * bump(np.abs(y) - 3.4, 0.7) + 0.4 * bump(x, 1.6)

    size = (58.0, 14.0, 16.0)
    fine = [spaced(29, 2, 190, 5), spaced(7, 2, 44, 5), spaced(8, 2, 12, 5)]
    coarse = [spaced(29, 2, 20, 1), spaced(7, 2, 2, 1), spaced(8, 2, 1, 1)]
    return DemoPart(
        "pen_rest", "ebony", rounded_box(size, 2, fine, bulge=carved), rounded_box(size, 2, coarse, bulge=dip)
    ).placed((0, -34, 31.5))


def _plate() -> DemoPart:
    letters = strokes_of("NIGHT FERRY", 6.2)

    def engraved(x: F64, y: F64) -> F64:
        frame = _rectangle(x, y, (42, 8.6), 2.5)
        graver = np.clip(1 - distance_to(letters, x, y) / 0.75, 0, 1)
        screws = np.hypot(np.abs(x) - 37.5, y)
        slot = bump(y - x * 0.2 + np.sign(x) * 7.5, 0.5) * (screws < 2.2)
        return (
            -0.55 * graver - 0.4 * bump(frame, 0.6) + 0.8 * np.sqrt(np.clip(1 - (screws / 2.6) ** 2, 0, 1)) - 0.4 * slot
        )

    size = (92.0, 22.0, 4.0)
    fine = [spaced(46, 1.2, 290, 4), spaced(11, 1.2, 78, 4), spaced(2, 1.2, 4, 4)]
    coarse = [spaced(46, 1.2, 2, 1), spaced(11, 1.2, 1, 1), spaced(2, 1.2, 1, 1)]
    lean = np.deg2rad(52)
    matrix = np.array([[1, 0, 0], [0, np.cos(lean), -np.sin(lean)], [0, np.sin(lean), np.cos(lean)]])
    low = rounded_box(size, 1.2, coarse, worths={"top": 1.7, "bottom": 0.4})
    return DemoPart("plate", "bone", rounded_box(size, 1.2, fine, engraved), low).placed((0, -62.5, 25.5), matrix)


def _rivets() -> list[DemoPart]:
    """Half balls that float just over the tray; they belong to the sculpt alone."""
    angle = np.linspace(0, np.pi / 2, 12)
    dome = [(2.1 * float(np.cos(a)), 1.5 * float(np.sin(a))) for a in angle]
    dome[-1] = (0.0, 1.5)
    profile = [(2.5, 0.0), (2.35, 0.15), *dome]
    places = [(x, y) for y in (-56.0, 56.0) for x in np.linspace(-96, 96, 9)]
    places += [(x, y) for x in (-104.0, 104.0) for y in np.linspace(-36, 36, 4)]
    places = [(x, y) for x, y in places if not (y < 0 and abs(x) < 50)]
    return [
        DemoPart(f"tray_float_rivet_{n + 1:02d}", "brass", turned(profile, 36), []).placed((x, y, 24.03))
        for n, (x, y) in enumerate(places)
    ]


def parts() -> list[DemoPart]:
    """Every part, left ones before the right ones that mirror them."""
    left = [_well(), _lid(), _hinge()]
    feet = [_foot(f"foot_{n}", x, y) for n, (x, y) in enumerate([(-92, -45), (92, -45), (-92, 45), (92, 45)], 1)]
    right = [part.mirrored(part.name.replace("left", "right")) for part in left]
    return [_tray(), *feet, *left, *right, _pen_rest(), _plate(), *_rivets()]


def build() -> tuple[Mesh, Mesh]:
    """The low and the high of the whole inkstand, parts named with `_low`, `_high` and `_float`."""
    return meshes_of(parts(), MATERIALS, "inkstand", 5.0)


def write(folder: pathlib.Path) -> tuple[pathlib.Path, ...]:
    """Write the two files; returns their paths, low first."""
    return written(folder, build())
