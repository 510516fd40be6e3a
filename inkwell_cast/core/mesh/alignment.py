"""How a high would have to be turned, mirrored and scaled to lie on its low: tried out, and scored by the surfaces.

Axes that were exchanged on export, a mirrored one and usual factors between units are tried, each with the origin kept
and with the boxes' centres brought together. What counts is how far the surfaces lie from each other then, both ways; a
move that does not bring them together is not offered.
"""

from dataclasses import dataclass
from itertools import permutations, product
from typing import Any

import numpy as np

from ..base.array_types import F64
from ..base.on_demand import on_demand
from .surface_samples import Surface

cKDTree = on_demand("scipy.spatial", "cKDTree")

POINTS = 700  # of each surface, to choose among all tries
CHECKED = 6000  # and to judge the best of them
FACTORS = (1.0, 0.001, 0.01, 0.1, 10.0, 100.0, 1000.0, 0.0254, 2.54, 0.3048, 1 / 2.54, 1 / 0.3048, 1 / 0.0254)
TOGETHER = 0.02  # of the low's diagonal: surfaces that lie closer in the mean belong together
GAIN = 0.4  # of the distance as it is: a try must come below
ALIKE = 1.25  # times the best score: of such tries the one that changes least is taken
CUT = 0.99  # of the distances; the farthest few are often what only one of the two has


@dataclass(frozen=True, slots=True)
class Alignment:
    """turn names the new axes as in `FileSettings.turn`; scale and move come after it; distances in low diagonals."""

    turn: str
    scale: float
    move: tuple[float, float, float]
    before: float
    after: float

    @property
    def words(self) -> str:
        """What it does, for a button."""
        said = []
        if self.turn != "+x+y+z":
            said.append("mirror" if np.linalg.det(axes_of(self.turn)) < 0 else "turn")
        if self.scale != 1:
            said.append(f"scale by {self.scale:.4g}")
        if any(self.move):
            said.append("move")
        return " and ".join(said).capitalize()


def axes_of(turn: str) -> F64:
    """The matrix (3, 3) of a turn such as "+x+z-y": what the new x, y and z are made of."""
    matrix = np.zeros((3, 3))
    for row in range(3):
        matrix[row, "xyz".index(turn[2 * row + 1])] = -1.0 if turn[2 * row] == "-" else 1.0
    return matrix


def turn_of(matrix: F64) -> str:
    """The turn that a signed permutation (3, 3) makes: the other way of `axes_of`."""
    columns = np.abs(matrix).argmax(axis=1)
    return "".join(f"{'-' if matrix[row, c] < 0 else '+'}{'xyz'[c]}" for row, c in enumerate(columns.tolist()))


def every_turn() -> list[str]:
    """The 24 turns by right angles and their mirrored twins, the plainest first."""
    turns = [
        "".join(f"{sign}{axis}" for sign, axis in zip(signs, order, strict=True))
        for order in permutations("xyz")
        for signs in product("+-", repeat=3)
    ]
    return sorted(turns, key=_plainness)


def _plainness(turn: str) -> tuple[bool, int]:
    """Turns before mirrorings, then by how many axes they touch."""
    return bool(np.linalg.det(axes_of(turn)) < 0), 3 - sum(turn[2 * n : 2 * n + 2] == f"+{'xyz'[n]}" for n in range(3))


def alignment_of(low: Surface, high: Surface) -> Alignment | None:
    """The plainest change that lays `high` onto `low`.

    None where no change does, or where they lie together already.
    A surface that is like itself after a turn is not turned.
    """
    few, many = ((low.places(n)[0], high.places(n)[0]) for n in (POINTS, CHECKED))
    if not all(len(points) for points in (*few, *many)):
        return None
    diagonal = float(np.linalg.norm(np.ptp(low.box, axis=0)))
    before = _apart(*many) / max(diagonal, 1e-300)
    if before < TOGETHER or not np.isfinite(before):
        return None
    tries = _tries(low.box, high.box)
    trees = cKDTree(few[0]), cKDTree(few[1])
    scores = np.array([_apart_by(few, trees, *one) for one in tries]) / diagonal
    best = float(scores.min())
    for k in np.flatnonzero(scores <= best * ALIKE + 0.002).tolist():  # the plainest of those that are as good
        turn, scale, move = tries[k]
        moved = many[1] @ axes_of(turn).T * scale + np.array(move)
        after = _apart(many[0], moved) / diagonal
        if after < TOGETHER and after < GAIN * before:
            return Alignment(turn, scale, move, before, after)
    return None


def _tries(low: F64, high: F64) -> list[tuple[str, float, tuple[float, float, float]]]:
    """Every turn with every factor that brings two boxes to about one size: at the origin, then box on box."""
    boxes = low, high
    sizes = [float(np.linalg.norm(box[1] - box[0])) for box in boxes]
    wanted = sizes[0] / max(sizes[1], 1e-300)
    factors = [factor for factor in FACTORS if 0.6 < factor / wanted < 1.7]
    tries = []
    for centred in (False, True):
        for turn in every_turn():
            for factor in factors:
                middle = axes_of(turn) @ boxes[1].mean(axis=0) * factor
                move = boxes[0].mean(axis=0) - middle if centred else np.zeros(3)
                tries.append((turn, factor, (float(move[0]), float(move[1]), float(move[2]))))
    return sorted(tries, key=lambda one: (any(one[2]), _plainness(one[0]), one[1] != 1))


def _apart(one: F64, other: F64) -> float:
    """How far two clouds of points lie apart, both ways, the farthest few left out; less what their spacing makes."""
    trees = cKDTree(one), cKDTree(other)
    distance = max(_trimmed(trees[1].query(one)[0]), _trimmed(trees[0].query(other)[0]))
    spacing = max(_trimmed(trees[0].query(one, 2)[0][:, 1]), _trimmed(trees[1].query(other, 2)[0][:, 1]))
    return max(distance - spacing, 0.0)


def _apart_by(
    points: tuple[F64, F64], trees: tuple[Any, Any], turn: str, scale: float, move: tuple[float, float, float]
) -> float:
    """How far low and moved high lie apart for a try, in the space of the low; one tree of the high serves for all."""
    axes = axes_of(turn)
    moved = points[1] @ axes.T * scale + np.array(move)
    back = (points[0] - np.array(move)) / scale @ axes
    return max(_trimmed(trees[0].query(moved)[0]), _trimmed(trees[1].query(back)[0]) * scale)


def _trimmed(distances: F64) -> float:
    kept = np.sort(distances)[: max(int(CUT * len(distances)), 1)]
    return float(kept.mean())
