"""Flaws that the checks before a bake can tell already, by the place of what they mark."""

import numpy as np

from ..base.array_types import F32
from ..checks import Finding, Remedy
from ..mesh.marks import MOST_MARKS
from ..settings.files import Fix
from ..settings.mends import Mend
from ..settings.pairing import Placing
from .flaw import Flaw

# by check: the cause, and how wrong such a place looks in degrees; a note counts only where it is named
CAUSES = {
    "pairs": ("alone", 45.0), "winding": ("back", 45.0), "overlaps": ("overlap", 45.0),
    "uv_area": ("folded", 30.0), "hard_edges": ("hard_edge", 8.0), "faceted": ("faceted", 6.0),
    "doubles": ("cracked", 2.0), "borders": ("open", 4.0), "tiles": ("tiles", 1.0),
}  # fmt: skip
NOTES = {"borders", "tiles"}
TITLES = {"winding": "Struck a back face", "borders": "Open sculpt"}


def flaw_of(finding: Finding) -> Flaw | None:
    """The flaw that a finding is, with its remedy as a mend; None where a viewer of the map would see nothing of it."""
    place = finding.place
    if finding.check not in CAUSES or place is None:
        return None
    if finding.severity == "note" and finding.check not in NOTES:
        return None
    if finding.check == "borders" and finding.marks.on_low:  # a low may be open where it is never seen
        return None
    cause, error = CAUSES[finding.check]
    mend = mend_of(finding.fix, f"{finding.title}, {finding.part.rpartition('/')[2]}") if finding.fix else None
    middle, radius = place
    thinned = max(1.0, finding.count / MOST_MARKS) if len(finding.marks.corners) == MOST_MARKS else 1.0
    return Flaw(
        cause=cause, title=TITLES.get(finding.check, finding.title), part=finding.part, what=finding.what,
        remedy=finding.remedy, middle=(middle[0], middle[1], middle[2]), radius=radius,
        area=_area(finding.marks.corners) * thinned, error=error,
        mends=[mend.model_copy(update={"cause": cause})] if mend else [],
    )  # fmt: skip


def mend_of(remedy: Remedy, name: str) -> Mend | None:
    """What a remedy changes, as a mend; None for one that moves whole files."""
    mend, key = Mend(name=name[:120], words=remedy.words), f"{remedy.file}/{remedy.part}"
    if remedy.kind == "together":
        return mend.model_copy(update={"together": True})
    if remedy.kind == "own_source":
        return mend.model_copy(update={"placed": {key: Placing(role="self")}})
    if remedy.kind == "pair":
        return mend.model_copy(update={"placed": {key: Placing(pair=remedy.pair)}})
    if remedy.kind == "align":
        return None
    return mend.model_copy(update={"fixes": {remedy.file: [Fix(kind=remedy.kind, part=remedy.part, near=remedy.near)]}})


def _area(corners: F32) -> float:
    """The surface of some triangles, (N, 3, 3)."""
    wide = corners.astype(np.float64)
    return float(np.linalg.norm(np.cross(wide[:, 1] - wide[:, 0], wide[:, 2] - wide[:, 0]), axis=1).sum() / 2)
