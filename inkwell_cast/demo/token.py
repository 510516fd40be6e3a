"""The ferry token, in millimetres, Y up: a struck disc with a raised rim, a gull over waves and lettering around it."""

import pathlib

import numpy as np

from ..core.base.array_types import F64
from ..core.mesh.mesh import Mesh
from .lettering import distance_to, strokes_of
from .parts import DemoPart, meshes_of, written
from .shapes import Panel, bump

TITLE = "Ferry token"
MATERIALS = {"bronze": (0.52, 0.33, 0.14)}
RADIUS, THICK, RING = 20.0, 2.2, 15.2
GULL = [  # strokes of the bird, with half their width at both ends
    ((-1.0, 0.4), (2.6, 1.6), 1.5, 1.1),
    ((2.6, 1.6), (4.4, 2.4), 1.1, 0.8),
    ((4.4, 2.4), (5.6, 2.1), 0.45, 0.15),
    ((-1.0, 0.4), (-4.6, -0.7), 1.4, 0.5),
    ((0.6, 1.2), (-1.2, 5.0), 1.1, 0.8),
    ((-1.2, 5.0), (-5.8, 7.6), 0.9, 0.15),
    ((1.2, 1.4), (3.4, 5.4), 1.0, 0.7),
    ((3.4, 5.4), (8.2, 7.4), 0.8, 0.15),
]


def _dome(inside: F64) -> F64:
    """The height of a struck form `inside` of its outline: a quarter round, then level."""
    t = np.clip(inside, 0, 1)
    return np.sqrt(1 - (1 - t) ** 2)


def _gull(x: F64, y: F64) -> F64:
    """How far inside the bird's outline, with feathers cut into its wings; negative outside."""
    inside = np.full(x.shape, -9.0)
    for (ax, ay), (bx, by), wide, thin in GULL:
        dx, dy = bx - ax, by - ay
        t = np.clip(((x - ax) * dx + (y - ay) * dy) / (dx * dx + dy * dy), 0, 1)
        inside = np.maximum(inside, wide + (thin - wide) * t - np.hypot(x - ax - t * dx, y - ay - t * dy))
    return inside


def _relief(x: F64, y: F64) -> F64:
    """How high the struck face stands over its field."""
    rho, phi = np.hypot(x, y), np.arctan2(y, x)
    rim = 0.8 * _dome((rho - 17.9) / 0.5) * _dome((RADIUS - 0.25 - rho) / 0.25)
    inner = 0.28 * bump(rho - 12.6, 0.35)
    beads = 0.3 * np.sqrt(np.clip(1 - (np.hypot((phi * 60 / np.pi % 2 - 1) * 0.48, rho - 12.6) / 0.42) ** 2, 0, 1))
    bird = _gull(x * 1.15, (y - 1.6) * 1.15)
    feathers = 0.10 * bump((x * 0.8 + y * 1.9) % 0.9 - 0.45, 0.16) * (bird > 0.25) * (y > 4.2)
    field = rho < 12
    swell = np.zeros_like(x)
    for row, (level, tall) in enumerate(((-4.6, 0.55), (-6.4, 0.5), (-8.2, 0.45))):
        crest = y - level - 0.55 * np.abs(np.sin(x * 0.62 + row * 1.3)) ** 0.6
        swell = np.maximum(swell, tall * bump(crest, 0.62))
    letters = np.full(x.shape, 9.0)
    around = np.abs(rho - RING) < 2.6
    for text, turned in (("QUILLHAVEN", False), ("NIGHT FERRY", True)):
        along = (np.pi / 2 - phi) if not turned else ((phi + np.pi / 2 + np.pi) % (2 * np.pi) - np.pi)
        inside = around & (np.abs(along) < np.pi / 2)
        up = (rho - RING) * (-1 if turned else 1)
        near = distance_to(strokes_of(text, 2.7), along[inside] * RING, up[inside])
        letters[inside] = np.minimum(letters[inside], near)
    struck = 0.42 * _dome((0.36 - letters) / 0.3)
    return rim + np.maximum(inner, beads) + field * np.maximum(0.85 * _dome(bird / 0.9) - feathers, swell) + struck


def _disc(angles: int, rings: int, relief: bool) -> list[Panel]:
    """The struck face, the edge and the plain back."""
    angle = np.linspace(0, 2 * np.pi, angles + 1)
    turn = angle.copy()
    turn[-1] = 0
    soft = 0.35  # of the edge
    bends = np.linspace(0, np.pi / 2, 7 if relief else 2)
    radii = np.concatenate([np.linspace(0, RADIUS - soft, rings), RADIUS - soft + soft * np.sin(bends[1:])])
    drop = np.concatenate([np.zeros(rings), soft * (1 - np.cos(bends[1:]))])
    a, r = np.meshgrid(turn, radii, indexing="ij")
    x, y = r * np.cos(a), r * np.sin(a)
    lift = _relief(x, y) if relief else 0 * x
    top = np.stack([x, y, THICK + lift - drop], axis=-1)[:, ::-1]
    flat = np.stack([np.outer(np.cos(angle), radii), np.outer(np.sin(angle), radii)], axis=-1)[:, ::-1]
    line = np.linspace(soft, THICK - soft, 9 if relief else 2)
    a, z = np.meshgrid(turn, line, indexing="ij")
    milled = 0.12 * np.abs(np.sin(a * 75)) * _dome((z - soft) / 0.3) * _dome((THICK - soft - z) / 0.3) * relief
    edge = np.stack([(RADIUS - milled) * np.cos(a), (RADIUS - milled) * np.sin(a), z], axis=-1)
    strip = np.stack(np.meshgrid(angle * RADIUS, line, indexing="ij"), axis=-1)
    bottom = top.copy()
    bottom[..., 2] = drop[::-1][None]
    return [
        Panel(top, flat, 1.0),
        Panel(edge, strip, 0.31),
        Panel(bottom[:, ::-1], flat[:, ::-1] * np.array([-1, 1]), 0.35),
    ]


def build() -> tuple[Mesh, Mesh]:
    """The low and the high of the token."""
    part = DemoPart("token", "bronze", _disc(1080, 300, True), _disc(48, 3, False))
    return meshes_of([part], MATERIALS, "token", 0.5)


def write(folder: pathlib.Path) -> tuple[pathlib.Path, ...]:
    """Write the two files; returns their paths, low first."""
    return written(folder, build())
