"""Flaws: where a projection went wrong, why, and what cures it. One module a cause; adding one is a file and a line.

A detector has `KEY`, `TITLE` and `find(seen) -> Found`: rows of the texels that show its cause, how wrong they look,
and the words for a region of them. Rows that lie together on the surface, across UV seams, are one flaw; the flaw that
a viewer would see most comes first (area times how wrong it looks).
"""

import pathlib
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..arrays import F32, I64
from ..ground import Ground
from ..marks import Marks
from ..packed import pack, unpack, write_blocks
from . import inside, leaning, missed, strained
from .found import Flaw, Found
from .seen import Seen, seen_of

__all__ = ["FLAW_MARKS", "REGISTRY", "Flaw", "Shown", "flaws_of", "marks_in", "write_marks"]

FLAW_MARKS = "flaws.marks"  # the file of what views hatch

TOGETHER = 4.0  # rows apart: what lies nearer belongs to one region
FEWEST = 6  # rows of a region
MOST_ROWS, MOST_FLAWS, MOST_MARKS = 20_000, 40, 1500


class Detector(Protocol):
    KEY: str
    TITLE: str

    def find(self, seen: Seen) -> Found: ...


REGISTRY: dict[str, Detector] = {module.KEY: module for module in (missed, inside, leaning, strained)}  # type: ignore[misc]


@dataclass(frozen=True, slots=True)
class Shown:
    """A flaw with the squares to hatch: corners (M, 3, 3) on the low and uvs (M, 3, 2) on the sheet."""

    flaw: Flaw
    corners: F32
    uvs: F32


def flaws_of(grounds: list[Ground]) -> list[Shown]:
    """The flaws on all sheets of a bake, the worst first."""
    found: list[Shown] = []
    for ground in grounds:
        seen = seen_of(ground)
        for detector in REGISTRY.values():
            if len(seen.x):
                found += _regions(seen, detector)
    return sorted(found, key=lambda shown: -shown.flaw.weight)[:MOST_FLAWS]


def _regions(seen: Seen, detector: Detector) -> list[Shown]:
    found = detector.find(seen)
    rows, chosen = found.rows, np.arange(len(found.rows))
    if not len(rows):
        return []
    thinned = max(1, -(-len(rows) // MOST_ROWS))
    kept = chosen[::thinned]
    apart = TOGETHER * float(np.median(seen.size[rows])) * np.sqrt(thinned)
    links = cKDTree(seen.place[rows[kept]]).query_pairs(apart, output_type="ndarray")
    near = coo_array((np.ones(len(links)), (links[:, 0], links[:, 1])), shape=(len(kept), len(kept)))
    objects = seen.ground.low.mesh.objects[seen.ground.low.triangles[seen.triangle[rows[kept]]]]
    _, group = connected_components(near, directed=False)
    _, group = np.unique(np.stack([group, objects]), axis=1, return_inverse=True)  # parts are told of one by one
    order = np.argsort(group, kind="stable")
    parts = np.split(kept[order], np.cumsum(np.bincount(group))[:-1])
    return [_shown(seen, detector, found, part, thinned) for part in parts if len(part) * thinned >= FEWEST]


def _shown(seen: Seen, detector: Detector, found: Found, own: I64, thinned: int) -> Shown:
    rows = found.rows[own]
    area = seen.size[rows].astype(np.float64) ** 2
    low, high = seen.place[rows].min(axis=0), seen.place[rows].max(axis=0)
    x, y, z = ((low + high) / 2).tolist()
    part = seen.ground.assembly.keys[seen.ground.low.mesh.objects[seen.ground.low.triangles[seen.triangle[rows[0]]]]]
    told = found.tell(own)
    flaw = Flaw(
        cause=detector.KEY, title=detector.TITLE, part=part, what=told.what, remedy=told.remedy, middle=(x, y, z),
        radius=float(np.linalg.norm(high - low) / 2), area=float(area.sum()) * thinned,
        error=float((area * found.error[own]).sum() / area.sum()), reach=told.reach,
    )  # fmt: skip
    return Shown(flaw, *_squares(seen, rows))


def _squares(seen: Seen, rows: I64) -> tuple[F32, F32]:
    """Two triangles over each texel, on the low and on the sheet, an even choice of the rows."""
    if len(rows) > MOST_MARKS // 2:
        rows = rows[np.linspace(0, len(rows) - 1, MOST_MARKS // 2).astype(np.int64)]
    grid = seen.ground.low.grid
    x, y, half = seen.x[rows] + 0.5, seen.y[rows] + 0.5, seen.step / 2
    around = np.array([[-1, -1], [1, -1], [1, 1], [-1, -1], [1, 1], [-1, 1]]) * half
    texel = np.stack([x, y], axis=1)[:, None] + around  # (M, 6, 2)
    uvs = np.stack([texel[..., 0] / grid.width, 1 - texel[..., 1] / grid.height], axis=2)
    corners = grid.corners[seen.triangle[rows]].astype(np.float64) / (grid.side << grid.shift)  # texels
    a, u, v = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    whole = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    whole = np.where(np.abs(whole) < 1e-12, 1, whole)[:, None]
    d = texel - a[:, None]
    b1 = (d[..., 0] * v[:, None, 1] - d[..., 1] * v[:, None, 0]) / whole
    b2 = (u[:, None, 0] * d[..., 1] - u[:, None, 1] * d[..., 0]) / whole
    points = seen.ground.rays.points[seen.triangle[rows]].astype(np.float64)
    b = np.stack([1 - b1 - b2, b1, b2], axis=2)
    placed, laid = np.einsum("mkc,mcd->mkd", b, points).reshape(-1, 3, 3), uvs.reshape(-1, 3, 2)
    facing = np.cross(placed[:, 1] - placed[:, 0], placed[:, 2] - placed[:, 0])
    away = np.einsum("mc,mc->m", facing, np.repeat(seen.normal[rows], 2, axis=0)) < 0
    placed[away], laid[away] = placed[away][:, ::-1], laid[away][:, ::-1]  # views turn to where they face
    return placed.astype(np.float32), laid.astype(np.float32)


def write_marks(path: pathlib.Path, shown: list[Shown]) -> None:
    """Keep what the views hatch of some flaws, in their order."""
    ends = np.cumsum([0, *[len(found.corners) for found in shown]]).astype(np.int32)
    none = np.zeros((0, 3, 3), np.float32), np.zeros((0, 3, 2), np.float32)
    corners = np.concatenate([none[0], *[found.corners for found in shown]])
    uvs = np.concatenate([none[1], *[found.uvs for found in shown]])
    write_blocks(path, pack({}, {"ends": ends, "corners": corners, "uvs": uvs}))


def marks_in(path: pathlib.Path, number: int) -> Marks:
    """What the views hatch of one flaw. Raises IndexError for a number that there is none of."""
    _, a = unpack(np.fromfile(path, np.uint8))
    if not 0 <= number < len(a["ends"]) - 1:
        raise IndexError(number)
    own = slice(int(a["ends"][number]), int(a["ends"][number + 1]))
    return Marks(a["corners"][own], a["uvs"][own], on_low=True)
