"""Flaws that the checks before a bake can tell already, where a viewer of the bake sees them."""

import numpy as np

from ..base.array_types import F32, Bool
from ..base.on_demand import on_demand
from ..checks import Finding, Remedy
from ..mesh.marks import MOST_MARKS
from ..settings.mends import Mend
from ..settings.pairing import Placing
from .flaw import Flaw
from .texel_rows import TexelRows
from .visible import FEW

cKDTree = on_demand("scipy.spatial", "cKDTree")

# by check: the cause, and how wrong its place looks at least before it is told, in degrees
CAUSES = {
    "winding": ("back", 5.0),
    "uv_area": ("folded", 8.0),
    "doubles": ("cracked", 5.0),
}
# and how wrong that looks; no map shows it
ALWAYS = {"pairs": ("alone", 45.0), "lacking": ("lacking", 45.0), "faceted": ("faceted", 6.0)}
CHECKED = frozenset(CAUSES | ALWAYS)
OF_LOW = {"uv_area"}  # the best on this low suffers from these too
TITLES = {"winding": "Struck a back face"}
NEAR = 0.02  # of the low's diagonal: what of the low a mark on the sculpt stands for


Place = tuple[float, float, float]


def flaw_of(finding: Finding, looked: list[TexelRows]) -> Flaw | None:
    """The flaw that a finding is, with its remedy as a mend; None where a viewer of the map would see nothing of it."""
    place = finding.place
    if place is None or finding.check not in CAUSES | ALWAYS or finding.severity == "note":
        return None
    middle, radius = place
    thinned = max(1.0, finding.count / MOST_MARKS) if len(finding.marks.corners) == MOST_MARKS else 1.0
    area = _area(finding.marks.corners) * thinned
    if finding.check in ALWAYS:
        cause, error = ALWAYS[finding.check]
        share = error * min(area / max(sum(_surface(seen) for seen in looked), 1e-300), 1.0)
    else:
        cause, least = CAUSES[finding.check]
        error, share = _look(finding, looked)
        if error < least:
            return None
    name = f"{finding.title}, {finding.part.rpartition('/')[2]}"
    mends = [mend for remedy in finding.remedies if (mend := mend_of(remedy, name))]
    spot, sheet, texel = _spot(finding, looked)
    return Flaw(
        cause=cause,
        title=TITLES.get(finding.check, finding.title),
        part=finding.part,
        what=finding.what,
        spots=[spot],
        sheet=sheet,
        texel=texel,
        remedy=finding.remedy,
        middle=(middle[0], middle[1], middle[2]),
        radius=radius,
        area=area,
        error=error,
        share=share,
        mends=[mend.model_copy(update={"cause": cause}) for mend in mends],
    )


def _spot(finding: Finding, looked: list[TexelRows]) -> tuple[Place, int, tuple[int, int] | None]:
    """A point of the low in a finding, and where it lies on which sheet; one of its marks where none of it is baked."""
    middle = np.array((finding.place or ((0.0, 0.0, 0.0), 0.0))[0])
    for number, seen in enumerate(looked):
        rows = np.flatnonzero(_rows_of(finding, seen))
        if len(rows):
            row = rows[int(np.argmin(np.linalg.norm(seen.place[rows] - middle, axis=1)))]
            return tuple(seen.place[row].tolist()), number, (int(seen.x[row]), int(seen.y[row]))
    points = finding.marks.corners.mean(axis=1) if len(finding.marks.corners) else middle[None]
    return tuple(points[int(np.argmin(np.linalg.norm(points - middle, axis=1)))].tolist()), 0, None


def _look(finding: Finding, looked: list[TexelRows]) -> tuple[float, float]:
    """How wrong the place of a finding looks, and what that adds to the mean of the whole; degrees.

    For troubles of the low itself it is by how much the place looks worse than the mean of the whole.
    """
    worse = pixels = total = 0.0
    for seen in looked:
        rows, looks = _rows_of(finding, seen), seen.looks
        number = float(looks.pixels[rows].sum())
        if finding.check in OF_LOW:
            worse += float((looks.angle[rows] * looks.pixels[rows]).sum()) - seen.visible.mean * number
        else:
            worse += float(looks.share[rows].sum()) * seen.visible.total
        pixels, total = pixels + number, seen.visible.total
    return worse / max(pixels, FEW), worse / max(total, FEW)


def _rows_of(finding: Finding, seen: TexelRows) -> Bool:
    """The rows that a finding marks: of its triangles of the low, or near those of the sculpt."""
    marks, low = finding.marks, seen.context.low
    if marks.on_low:
        corners = low.mesh.positions[low.mesh.triangles]
        marked = np.isin(_as_one(corners), _as_one(marks.corners))
        return np.asarray(marked[low.triangles[seen.triangle]], bool)
    points = np.concatenate([marks.corners.reshape(-1, 3), marks.corners.mean(axis=1)])
    near = cKDTree(points).query(seen.place, distance_upper_bound=NEAR * seen.context.assembly.low.diagonal)[0]
    return np.asarray(np.isfinite(near), bool)


def _as_one(corners: F32) -> F32:
    """Triangles (N, 3, 3), each as one value to compare."""
    return np.ascontiguousarray(corners).reshape(len(corners), -1).view([("", np.float32)] * 9).reshape(-1)


def _surface(seen: TexelRows) -> float:
    return float((seen.size.astype(np.float64) ** 2).sum())


def mend_of(remedy: Remedy, name: str) -> Mend | None:
    """What a remedy changes, as a mend; None for one that changes the whole piece."""
    mend, key = Mend(name=name[:120], words=remedy.words), f"{remedy.file}/{remedy.part}"
    if remedy.kind == "together":
        return mend.model_copy(update={"together": True})
    if remedy.kind == "own_source":
        return mend.model_copy(update={"placed": {key: Placing(role="self")}})
    if remedy.kind == "pair":
        return mend.model_copy(update={"placed": {key: Placing(pair=remedy.pair)}})
    if remedy.kind == "align" or remedy.kind == "alone" or remedy.kind == "level" or remedy.kind == "nearer":
        return None
    if remedy.kind == "float":
        return mend.model_copy(update={"placed": {key: Placing(role="float")}})
    return mend.model_copy(update={"fixes": {remedy.file: remedy.fixes}})


def _area(corners: F32) -> float:
    """The surface of some triangles, (N, 3, 3)."""
    wide = corners.astype(np.float64)
    return float(np.linalg.norm(np.cross(wide[:, 1] - wide[:, 0], wide[:, 2] - wide[:, 0]), axis=1).sum() / 2)
