"""Flaws: where a projection went wrong, why, and what cures it. One module a cause; adding one is a file and a line.

A detector has `KEY`, `TITLE` and `find(seen) -> Found`: rows of the texels that show its cause, how wrong they look,
and the words for a region of them. Rows that lie together on the surface, across UV seams, are one flaw; the flaw that
a viewer would see most comes first (area times how wrong it looks).
"""

import pathlib
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..base.array_types import F32, I64
from ..cast.context import Context
from ..checks import Finding
from ..mesh.binary_message import pack, unpack, write_blocks
from ..mesh.marks import Marks
from . import (
    back_face,
    leaning_detail,
    missed,
    neighbour_occlusion,
    seam_break,
    strained_gradient,
    struck_another_part,
    wavy_outline,
)
from .flaw import Flaw, Found, Spot
from .from_checks import flaw_of
from .texel_rows import Seen, seen_of

__all__ = ["FLAW_MARKS", "REGISTRY", "Flaw", "Shown", "flaws_of", "marks_in", "write_marks"]

FLAW_MARKS = "flaws.marks"  # the file of what views hatch

TOGETHER = 4.0  # rows apart: what lies nearer belongs to one region
LARGER = 90.0  # percentile of a part's texels
FEWEST = 6  # rows of a region
MOST_ROWS, MOST_FLAWS, MOST_MARKS = 20_000, 40, 1500


class Detector(Protocol):
    KEY: str
    TITLE: str  # BY_PART, if there is one, makes all regions of a part one flaw

    def find(self, seen: Seen) -> Found: ...


DETECTORS = (
    missed,
    back_face,
    struck_another_part,
    leaning_detail,
    seam_break,
    strained_gradient,
    wavy_outline,
    neighbour_occlusion,
)
REGISTRY: dict[str, Detector] = {module.KEY: module for module in DETECTORS}  # type: ignore[misc]


@dataclass(frozen=True, slots=True)
class Shown:
    """A flaw with the triangles to hatch: corners (M, 3, 3) on the low or sculpt and uvs (M, 3, 2) on the sheet."""

    flaw: Flaw
    corners: F32
    uvs: F32
    on_low: bool = True


def flaws_of(contexts: list[Context], findings: list[Finding] | None = None) -> list[Shown]:
    """The flaws on all sheets of a bake, the worst first, with those that checks before a bake can tell."""
    flaws: list[Shown] = []
    for context in contexts:
        seen = seen_of(context)
        for detector in REGISTRY.values():
            if len(seen.x):
                flaws += _regions(seen, detector)
    mends = [change for shown in flaws for change in _changes(shown.flaw)]
    for finding in findings or []:
        flaw = flaw_of(finding)
        if flaw is None:
            continue
        cure = _changes(flaw)
        if cure and all(change in mends for change in cure):
            continue  # told by its texels, or by its other half
        mends += cure
        flaws.append(Shown(flaw, finding.marks.corners, finding.marks.uvs, finding.marks.on_low))
    return sorted(flaws, key=lambda shown: -shown.flaw.weight)[:MOST_FLAWS]


def _changes(flaw: Flaw) -> list[dict[str, Any]]:
    """What the mends of a flaw change, without their words."""
    return [mend.model_dump(exclude={"name", "words", "cause", "on"}) for mend in flaw.mends]


def _regions(seen: Seen, detector: Detector) -> list[Shown]:
    """The flaws that a detector finds, part by part: what lies together on one, across UV seams, is one."""
    detected = detector.find(seen)
    if not len(detected.rows):
        return []
    thinned = max(1, -(-len(detected.rows) // MOST_ROWS))
    kept = np.arange(len(detected.rows))[::thinned]
    objects = seen.context.low.mesh.objects[seen.context.low.triangles[seen.triangle[detected.rows[kept]]]]
    regions = list[I64]()
    for part in np.unique(objects):
        region = kept[objects == part]
        regions += [region] if getattr(detector, "BY_PART", False) else _together(seen, detected.rows, region, thinned)
    return [_shown(seen, detector, detected, region, thinned) for region in regions if len(region) * thinned >= FEWEST]


def _together(seen: Seen, rows: I64, region: I64, thinned: int) -> list[I64]:
    """Those of some rows that lie together: texels of a part differ in size, the larger ones say how close that is."""
    apart = TOGETHER * float(np.percentile(seen.size[rows[region]], LARGER)) * np.sqrt(thinned)
    links = cKDTree(seen.place[rows[region]]).query_pairs(apart, output_type="ndarray")
    near = coo_array((np.ones(len(links)), (links[:, 0], links[:, 1])), shape=(len(region), len(region)))
    _, group = connected_components(near, directed=False)
    order = np.argsort(group, kind="stable")
    return np.split(region[order], np.cumsum(np.bincount(group))[:-1])


def _shown(seen: Seen, detector: Detector, detected: Found, region: I64, thinned: int) -> Shown:
    rows = detected.rows[region]
    area = seen.size[rows].astype(np.float64) ** 2
    low, high = seen.place[rows].min(axis=0), seen.place[rows].max(axis=0)
    x, y, z = ((low + high) / 2).tolist()
    part = seen.context.assembly.keys[seen.context.low.mesh.objects[seen.context.low.triangles[seen.triangle[rows[0]]]]]
    told = detected.tell(region)
    cause, title = told.cause or detector.KEY, told.title or detector.TITLE
    spot = Spot(title, part, (x, y, z), float(np.linalg.norm(high - low) / 2), seen.place[rows])
    flaw = Flaw(
        cause=cause, title=title, part=part, what=told.what, remedy=told.remedy, middle=spot.middle,
        radius=spot.radius, area=float(area.sum()) * thinned,
        error=float((area * detected.error[region]).sum() / area.sum()),
        mends=[mend.model_copy(update={"cause": cause}) for mend in told.mends(spot)],
    )  # fmt: skip
    return Shown(flaw, *_squares(seen, rows))


def _squares(seen: Seen, rows: I64) -> tuple[F32, F32]:
    """Two triangles over each texel, on the low and on the sheet, an even choice of the rows."""
    if len(rows) > MOST_MARKS // 2:
        rows = rows[np.linspace(0, len(rows) - 1, MOST_MARKS // 2).astype(np.int64)]
    grid = seen.context.low.grid
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
    points = seen.context.rays.points[seen.triangle[rows]].astype(np.float64)
    b = np.stack([1 - b1 - b2, b1, b2], axis=2)
    placed, laid = np.einsum("mkc,mcd->mkd", b, points).reshape(-1, 3, 3), uvs.reshape(-1, 3, 2)
    facing = np.cross(placed[:, 1] - placed[:, 0], placed[:, 2] - placed[:, 0])
    away = np.einsum("mc,mc->m", facing, np.repeat(seen.normal[rows], 2, axis=0)) < 0
    placed[away], laid[away] = placed[away][:, ::-1], laid[away][:, ::-1]  # views turn to where they face
    return placed.astype(np.float32), laid.astype(np.float32)


def write_marks(path: pathlib.Path, shown: list[Shown]) -> None:
    """Keep what the views hatch of some flaws, in their order."""
    ends = np.cumsum([0, *[len(flaw.corners) for flaw in shown]]).astype(np.int32)
    none = np.zeros((0, 3, 3), np.float32), np.zeros((0, 3, 2), np.float32)
    corners = np.concatenate([none[0], *[flaw.corners for flaw in shown]])
    flat = [flaw.uvs if len(flaw.uvs) else np.zeros((len(flaw.corners), 3, 2), np.float32) for flaw in shown]
    uvs = np.concatenate([none[1], *flat])
    write_blocks(path, pack({"on_low": [s.on_low for s in shown]}, {"ends": ends, "corners": corners, "uvs": uvs}))


def marks_in(path: pathlib.Path, number: int) -> Marks:
    """What the views hatch of one flaw. Raises IndexError for a number that there is none of."""
    header, a = unpack(np.fromfile(path, np.uint8))
    if not 0 <= number < len(a["ends"]) - 1:
        raise IndexError(number)
    rows = slice(int(a["ends"][number]), int(a["ends"][number + 1]))
    on_low = header.get("on_low", [True] * number + [True])[number]
    return Marks(a["corners"][rows], a["uvs"][rows if on_low else slice(0)], on_low=on_low)
