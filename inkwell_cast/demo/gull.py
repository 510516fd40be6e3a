"""The gull figurehead, in centimetres, Y up: a carved bird with deep folds over its breast and wings close to its
sides, on a collar of rope. One reach cannot serve it: what holds the folds starts behind the wings.
"""

import pathlib
from collections.abc import Callable
from itertools import pairwise

import numpy as np

from ..core.base.array_types import F64
from ..core.mesh.mesh import Mesh
from .parts import DemoPart, meshes_of, written
from .shapes import Panel, bump, turned

TITLE = "Gull figurehead"
MATERIALS = {"painted oak": (0.74, 0.70, 0.60), "gilt": (0.70, 0.50, 0.18), "tarred rope": (0.30, 0.22, 0.15)}
Knots = list[tuple[float, ...]]


def _smooth(knots: Knots, s: F64) -> F64:
    """Values at s of a smooth line through knots (s, value, ...), (N, values); Catmull-Rom with the knots' spacing."""
    table = np.array(knots, np.float64)
    at, values = table[:, 0], table[:, 1:]
    slopes = np.gradient(values, at, axis=0)
    k = np.clip(np.searchsorted(at, s) - 1, 0, len(at) - 2)
    width = at[k + 1] - at[k]
    t = ((s - at[k]) / width)[:, None]
    w = width[:, None]
    return (
        (2 * t**3 - 3 * t**2 + 1) * values[k]
        + (t**3 - 2 * t**2 + t) * w * slopes[k]
        + (3 * t**2 - 2 * t**3) * values[k + 1]
        + (t**3 - t**2) * w * slopes[k + 1]
    )


def swept(
    spine: Knots,
    radii: Knots,
    steps: F64,
    sides: int,
    cuts: tuple[float, ...] = (),
    relief: Callable[[F64, F64], F64] | None = None,
    worths: tuple[float, ...] = (),
) -> list[Panel]:
    """A closed tube along a spine (s, x, y, z) with half axes (s, across, deep), sections at `steps` from 0 to 1.

    Its ends are round; `cuts` in s begin new charts, and the first and last chart are discs if there are cuts.
    `relief(s, angle)` lifts the surface away from the spine; the angle runs from +x, a quarter turn to the back.
    """
    centre, axes = _smooth(spine, steps), _smooth(radii, steps)
    along = np.gradient(centre, axis=0)
    along /= np.linalg.norm(along, axis=1, keepdims=True)
    x = np.array([1.0, 0, 0]) - along * along[:, :1]
    x /= np.linalg.norm(x, axis=1, keepdims=True)
    n = np.cross(along, x)
    ends = np.sqrt(np.clip(1 - np.clip(1 - np.minimum(steps, 1 - steps) / 0.035, 0, 1) ** 2, 0, 1))
    angle = np.linspace(0, 2 * np.pi, sides + 1)
    turn = angle.copy()
    turn[-1] = 0
    out = np.cos(turn)[:, None, None] * x * axes[:, :1] + np.sin(turn)[:, None, None] * n * axes[:, 1:2]
    lift: F64 = np.zeros((len(turn), len(steps)))
    if relief is not None:
        lift = relief(*np.meshgrid(steps, turn, indexing="xy"))
    unit = out / np.maximum(np.linalg.norm(out, axis=2, keepdims=True), 1e-9)
    points = centre + (out + unit * lift[..., None]) * ends[:, None]
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(centre, axis=0), axis=1))])
    around = 2 * np.pi * np.sqrt((axes**2).mean(axis=1))
    patches = []
    rows = [0, *(int(np.argmin(np.abs(steps - cut))) for cut in cuts), len(steps) - 1]
    for k, (first, last) in enumerate(pairwise(rows)):
        part = slice(first, last + 1)
        if cuts and k in (0, len(rows) - 2):
            flat = _disc(points[:, part], first > 0, angle)
        else:
            flat = np.stack(np.meshgrid(angle / (2 * np.pi) * around[part].mean(), length[part], indexing="ij"), -1)
        patches.append(Panel(points[:, part], flat, worths[k] if worths else 1.0))
    return patches


def _disc(points: F64, up: bool, angle: F64) -> F64:
    """A chart of rings about a pole, their radii the mean way along the surface."""
    steps = np.linalg.norm(np.diff(points, axis=1), axis=2).mean(axis=0)
    radius = np.concatenate([[0], np.cumsum(steps if not up else steps[::-1])])
    radius = radius if not up else radius[::-1]
    sign = 1 if up else -1
    return np.stack([np.outer(np.cos(angle), radius) * sign, np.outer(np.sin(angle), radius)], axis=-1)


def _ramp(value: F64, low: float, high: float) -> F64:
    """0 below `low`, 1 above `high`, smooth between."""
    t = np.clip((value - low) / (high - low), 0, 1)
    return t * t * (3 - 2 * t)


def _feathers(s: F64, a: F64, rows: float, across: float) -> F64:
    """Rows of overlapping scallops, 0 to 1: each rises toward its tip and has a shaft."""
    row = s * rows
    shift = np.floor(row) % 2 * 0.5
    side = np.abs((a * across + shift) % 1 - 0.5) * 2  # 0 in the middle of a feather, 1 where two meet
    row = row + 0.35 * side**2  # tips are round
    along = row % 1
    shaft = bump(side, 0.12) * 0.25
    return (1 - along) * (1 - 0.6 * side**4) + shaft * (along > 0.15)


def _body() -> DemoPart:
    spine: Knots = [
        (0, 0, 2, 0),
        (0.2, 0, 0, 20),
        (0.45, 0, -5, 45),
        (0.65, 0, -9, 66),
        (0.8, 0, -15, 83),
        (0.92, 0, -21, 95),
        (1, 0, -24, 102),
    ]
    radii: Knots = [
        (0, 13, 12),
        (0.12, 15.5, 14),
        (0.3, 20.5, 19),
        (0.45, 21, 20),
        (0.58, 17, 16.5),
        (0.7, 11.5, 11.5),
        (0.8, 10.4, 11.6),
        (0.9, 11, 13),
        (1, 8.5, 11),
    ]

    def carved(s: F64, angle: F64) -> F64:
        front = _ramp(-np.sin(angle), 0.15, 0.75)
        band = _ramp(s, 0.1, 0.18) * (1 - _ramp(s, 0.46, 0.58))
        fold = np.abs(np.sin(angle * 6 + 1.1 * np.sin(s * 9) + 0.5 * np.sin(s * 23))) ** 0.8
        folds = front * band * (6.4 * fold - 3.9)
        scales = _feathers(s, angle / (2 * np.pi), 34, 18) * _ramp(s, 0.5, 0.62) * (1 - _ramp(s, 0.9, 0.97))
        back = _feathers(s, angle / (2 * np.pi), 26, 14) * _ramp(np.sin(angle), 0.2, 0.6) * (1 - _ramp(s, 0.5, 0.62))
        eye = np.hypot((s - 0.905) * 90, np.abs(np.cos(angle)) * 9 - 7.6) - 2.4
        socket = -0.9 * bump(eye, 1.0) * (np.sin(angle) < 0.1)
        return folds + 0.75 * scales + 0.7 * back * _ramp(s, 0.1, 0.16) + socket

    fine, coarse = np.linspace(0, 1, 561), np.concatenate([[0, 0.012], np.linspace(0.035, 0.965, 31), [0.988, 1]])
    cuts, worths = (0.035, 0.5, 0.965), (0.35, 1.0, 1.0, 0.8)
    return DemoPart(
        "gull",
        "painted oak",
        swept(spine, radii, fine, 840, relief=carved),
        swept(spine, radii, coarse, 40, cuts, worths=worths),
    )


def _wing() -> DemoPart:
    spine: Knots = [
        (0, 16.5, 6, 74),
        (0.1, 22.3, 4, 69),
        (0.3, 25.6, 3, 55),
        (0.5, 25.4, 6, 40),
        (0.75, 20.5, 12, 23),
        (1, 11, 18, 3),
    ]
    radii: Knots = [(0, 1.2, 4), (0.1, 2.2, 9), (0.3, 2.3, 13.5), (0.55, 2.0, 12), (0.8, 1.5, 8), (1, 0.9, 3.5)]

    def plumes(s: F64, angle: F64) -> F64:
        short = _feathers(1 - s, (np.sin(angle) + 1) / 2, 20, 6) * (1 - _ramp(s, 0.4, 0.48)) * _ramp(s, 0.06, 0.12)
        vane = np.abs((np.sin(angle) * 3.5 + s * 1.2) % 1 - 0.5) * 2
        long = (0.35 + 0.65 * vane - 0.25 * bump(vane - 0.5, 0.1)) * _ramp(s, 0.42, 0.5) * (1 - _ramp(s, 0.94, 0.99))
        outside = _ramp(np.cos(angle), -0.25, 0.2)
        return (0.9 * short + 1.0 * long) * outside

    fine, coarse = np.linspace(0, 1, 341), np.concatenate([[0, 0.012], np.linspace(0.035, 0.965, 22), [0.988, 1]])
    return DemoPart(
        "wing_left",
        "painted oak",
        swept(spine, radii, fine, 280, relief=plumes),
        swept(spine, radii, coarse, 20),
        names=("gull_low_2", "gull_high_wing_left"),
    )


def _beak() -> DemoPart:
    spine: Knots = [(0, 0, -27, 95), (0.35, 0, -39, 95.5), (0.7, 0, -48, 93), (0.9, 0, -51.5, 89), (1, 0, -52, 86.5)]
    radii: Knots = [(0, 6.5, 6.8), (0.35, 4.6, 5.2), (0.7, 3.2, 3.8), (1, 0.9, 1.1)]

    def grooves(s: F64, angle: F64) -> F64:
        mouth = -0.7 * bump(np.sin(angle) - 0.05, 0.12) * _ramp(s, 0.12, 0.25) * (1 - _ramp(s, 0.7, 0.85))
        nostril = -0.9 * bump(np.hypot((s - 0.34) * 26, (np.abs(np.cos(angle)) - 0.72) * 8), 1.3) * (np.sin(angle) < 0)
        return mouth + nostril

    fine, coarse = np.linspace(0, 1, 141), np.concatenate([[0, 0.012], np.linspace(0.035, 0.965, 10), [0.988, 1]])
    return DemoPart("beak", "gilt", swept(spine, radii, fine, 160, relief=grooves), swept(spine, radii, coarse, 14))


def _eye() -> DemoPart:
    angle = np.linspace(-np.pi / 2, np.pi / 2, 25)
    ball = [(2.3 * float(np.cos(a)), 1.6 * float(np.sin(a))) for a in angle]
    ball[0], ball[-1] = (0.0, -1.6), (0.0, 1.6)
    side = np.array([[0, 0, 1], [0, 1, 0], [-1, 0, 0]], np.float64)
    return DemoPart("gull_float_eye_left", "gilt", turned(ball, 48), []).placed((8.9, -26.6, 93.6), side)


def _collar() -> DemoPart:
    turns = 26.0

    def ring(around: int, across: int, strands: float) -> list[Panel]:
        u, v = np.linspace(0, 2 * np.pi, around + 1), np.linspace(0, 2 * np.pi, across + 1)
        a, b = np.meshgrid(np.where(u == u[-1], 0, u), np.where(v == v[-1], 0, v), indexing="ij")
        twist = np.abs(np.sin((a * turns + b * 3) / 2)) ** 0.7
        small = 3.6 + strands * (0.9 * twist - 0.55)
        wide = 16.4 + small * np.cos(b)
        points = np.stack([wide * np.cos(a) * 1.04, wide * np.sin(a) + 1, 6 + small * np.sin(b)], axis=-1)
        flat = np.stack(np.meshgrid(u * 16.4, v * 3.6, indexing="ij"), axis=-1)
        return [Panel(points, flat, 0.7)]

    return DemoPart("collar", "tarred rope", ring(780, 60, 1.0), ring(48, 10, 0.0))


def parts() -> list[DemoPart]:
    wing, eye = _wing(), _eye()
    right = wing.mirrored("wing_right", ("gull_low_3", "gull_high_wing_right"))
    return [_body(), wing, right, _beak(), eye, eye.mirrored("gull_float_eye_right"), _collar()]


def build() -> tuple[Mesh, Mesh]:
    """The low and the high of the figurehead; body and wings are one pair."""
    return meshes_of(parts(), MATERIALS, "gull", 1.6)


def write(folder: pathlib.Path) -> tuple[pathlib.Path, ...]:
    """Write the two files; returns their paths, low first."""
    return written(folder, build())
