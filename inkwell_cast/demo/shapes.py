"""Surfaces made of grids: rounded boxes and turned parts, fine for a high and coarse for a low."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ..core.base.array_types import F64

Relief = Callable[[F64, F64], F64]


@dataclass(frozen=True, slots=True)
class Panel:
    """A grid of points (n, m, 3), wound so that its normal looks outward, and its place in the unwrap.

    flat (n, m, 2) are UVs in millimetres before packing; `worth` scales the room a chart gets on the sheet.
    """

    points: F64
    flat: F64
    worth: float = 1.0

    def placed(self, matrix: F64, offset: tuple[float, float, float]) -> "Panel":
        return Panel(self.points @ matrix.T + np.array(offset), self.flat, self.worth)


def spaced(half: float, rim: float, inner: int, rounding: int) -> F64:
    """Grid lines from -half to half: `rounding` intervals in each rim and `inner` between them."""
    edge = np.linspace(half - rim, half, rounding + 1)
    middle = np.linspace(-(half - rim), half - rim, inner + 1)
    return np.concatenate([-edge[:0:-1], middle, edge[1:]])


def rounded_box(
    size: tuple[float, float, float],
    radius: float,
    lines: list[F64],
    relief: Relief | None = None,
    worths: dict[str, float] | None = None,
    bulge: Relief | None = None,
) -> list[Panel]:
    """Six patches of a box with rounded edges, centred on the origin.

    `lines` are the grid lines along x, y and z. `relief(x, y)` lifts the top, fading out in the rounding; `bulge`
    does the same to every point by its height above the middle. Charts: "top", "bottom", "side".
    """
    half = np.array(size) / 2
    patches = []
    for axis, sign in [(2, 1), (2, -1), (0, 1), (0, -1), (1, 1), (1, -1)]:
        i, j = (axis + 1) % 3, (axis + 2) % 3
        if sign < 0:
            i, j = j, i
        a, b = np.meshgrid(lines[i], lines[j], indexing="ij")
        p = np.empty((*a.shape, 3))
        p[..., i], p[..., j], p[..., axis] = a, b, sign * half[axis]
        inner = np.clip(p, -(half - radius), half - radius)
        out = p - inner
        points = inner + radius * out / np.linalg.norm(out, axis=2, keepdims=True)
        if relief is not None and (axis, sign) == (2, 1):
            points[..., 2] += relief(points[..., 0], points[..., 1])
        if bulge is not None:
            share = np.clip((points[..., 2] + half[2]) / (2 * half[2]), 0, 1)
            points[..., 2] += share * bulge(points[..., 0], points[..., 1])
        along = np.stack([a, b], axis=-1)
        name = {(2, 1): "top", (2, -1): "bottom"}.get((axis, sign), "side")
        patches.append(Panel(points, along, (worths or {}).get(name, 1.0)))
    return patches


def turned(
    profile: list[tuple[float, float]],
    sides: int,
    relief: Callable[[F64, F64, F64], F64] | None = None,
    bends: tuple[int, ...] = (),
    worths: tuple[float, ...] = (),
) -> list[Panel]:
    """A part turned about z. `profile` runs (radius, z) from the bottom pole to the top pole.

    `bends` cut the profile into charts at those points: a chart that touches a pole is unwrapped as a disc, others
    as a strip. `relief(angle, radius, z)` moves points along the radius.
    """
    line = np.array(profile, np.float64)
    angle = np.linspace(0, 2 * np.pi, sides + 1)
    turn = angle.copy()
    turn[-1] = 0
    cuts = [0, *bends, len(line) - 1]
    patches = []
    for n, (first, last) in enumerate(pairwise(cuts)):
        part = line[first : last + 1]
        steps = np.linalg.norm(np.diff(part, axis=0), axis=1)
        length = np.concatenate([[0], np.cumsum(steps)])
        r, t = np.meshgrid(part[:, 0], turn, indexing="ij")
        z = np.broadcast_to(part[:, 1:], r.shape)
        if relief is not None:
            r = r + relief(t, r, z)
        points = np.stack([r * np.cos(t), r * np.sin(t), z], axis=-1).swapaxes(0, 1)
        if part[0, 0] == 0 or part[-1, 0] == 0:
            from_pole = length if part[0, 0] == 0 else length[-1] - length
            up = 1 if part[-1, 0] == 0 else -1
            flat = np.stack([np.outer(np.cos(angle), from_pole) * up, np.outer(np.sin(angle), from_pole)], axis=-1)
        else:
            width = 2 * np.pi * part[:, 0].mean()
            flat = np.stack(np.meshgrid(angle / (2 * np.pi) * width, length, indexing="ij"), axis=-1)
        patches.append(Panel(points, flat, worths[n] if worths else 1.0))
    return patches


def curve(points: Sequence[tuple[float, float]], radius: float, steps: int) -> list[tuple[float, float]]:
    """A profile with its inner corners rounded by arcs of `steps` intervals (quadratic, tangent to both sides)."""
    line = [np.array(p, np.float64) for p in points]
    out = [tuple(line[0])]
    for before, here, after in zip(line[:-2], line[1:-1], line[2:], strict=True):
        reach = min(radius, np.linalg.norm(before - here) * 0.49, np.linalg.norm(after - here) * 0.49)
        start = here + (before - here) / np.linalg.norm(before - here) * reach
        end = here + (after - here) / np.linalg.norm(after - here) * reach
        for t in np.linspace(0, 1, steps + 1):
            out.append(tuple((1 - t) ** 2 * start + 2 * t * (1 - t) * here + t**2 * end))
    return [(float(r), float(z)) for r, z in [*out, tuple(line[-1])]]


def refined(profile: list[tuple[float, float]], step: float) -> list[tuple[float, float]]:
    """A profile with points added, so that no segment is longer than `step`."""
    out = [profile[0]]
    for (r0, z0), (r1, z1) in pairwise(profile):
        n = max(1, int(np.ceil(np.hypot(r1 - r0, z1 - z0) / step)))
        out += [(r0 + (r1 - r0) * k / n, z0 + (z1 - z0) * k / n) for k in range(1, n + 1)]
    return out


def bump(distance: F64, width: float) -> F64:
    """A smooth hill of height 1 within `width` of zero."""
    return np.where(np.abs(distance) < width, np.cos(np.clip(distance / width, -1, 1) * np.pi / 2) ** 2, 0)
