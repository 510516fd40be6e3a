"""Flaws: where a viewer sees a projection that went wrong, why, and what cures it. One module a cause.

Adding a cause is a file and a line. A detector has `KEY`, `TITLE` and `find(seen) -> FlawRows`: rows of the texels that
show its cause, and the words for a region of them. Only rows that look worse than the best on this low are told, each
by the first detector that claims it. Rows that lie together on the surface, across UV seams, are one flaw; the flaw
that is noticed first comes first. What shows too little is counted, not told.
"""

from collections.abc import Callable
from functools import cache, partial
from typing import Protocol

import numpy as np

from ..base.array_types import F32, I64, Bool
from ..base.on_demand import on_demand
from ..cast.context import Context
from ..checks import Finding
from ..settings.mends import Mend
from ..settings.regions import Accepted
from . import (
    back_face,
    farther_surface,
    hard_edge,
    leaning_detail,
    map_from_elsewhere,
    missed,
    neighbour_occlusion,
    parting_rays,
    seam_break,
    shared_place,
    strained_gradient,
    struck_another_part,
    wavy_outline,
)
from .flaw import AROUND_A_BEND, Flaw, FlawRows
from .from_checks import CHECKED, flaw_of
from .marked import MOST_FLAWS, FlawList, MarkedFlaw, told_once, without_rims
from .noticed import Eye, eye_of
from .places import parted, spot_of, with_near_by, worst_places
from .texel_rows import TexelRows, seen_of
from .trials import Trial, Way, tried
from .visible import FEW, Visible, contrast

coo_array = on_demand("scipy.sparse", "coo_array")
connected_components = on_demand("scipy.sparse.csgraph", "connected_components")
cKDTree = on_demand("scipy.spatial", "cKDTree")

__all__ = [
    "CHECKED",
    "COARSE_MARKS",
    "FLAW_MARKS",
    "IN_TEXELS",
    "REGISTRY",
    "Flaw",
    "FlawList",
    "MarkedFlaw",
    "Trial",
    "Visible",
    "Way",
    "flaws_of",
    "marks_in",
    "write_marks",
]

FLAW_MARKS, COARSE_MARKS = "flaws.marks", "coarse.marks"  # files of what views hatch

TOGETHER = 4.0  # rows apart: what lies nearer belongs to one region
NEIGHBOURS = 0.02  # of the low's diagonal, the same
LARGER = 90.0  # percentile of a part's texels
FEWEST = 6  # rows of a region
ENOUGH = 16.0  # pixels of a region: what fewer saw is chance, since the best was chosen by them too
SHOWS, PLAINLY = 4.0, 8.0  # degrees above the best on this low, from which on a place looks wrong, and plainly so
MISSED = 0.5  # the same where rays missed: that may be worse in another light
LEAST, LARGE = 0.003, 0.012  # degrees of the mean: what a region adds by plainly wrong places, or in all, to be seen
DARK, VISIBLE = 0.2, 1.5e-4  # of the light, and of the piece's pixels: what turns so much so dark is never harmless
MOST_ROWS, MOST_MARKS = 20_000, 1500


class Detector(Protocol):
    KEY: str
    TITLE: str  # BY_PART, if there is one, makes all regions of a part one flaw; with IN_PLACES it parts again
    # WHOLE_SHEET, if there is one, says that the best on this low looks no better, or that it is no matter of normals:
    # it sees all rows, and says how wrong they look. EXPLAINS says that its rows have no other cause.

    def find(self, seen: TexelRows) -> FlawRows: ...


DETECTORS: tuple[Detector, ...] = (  # type: ignore[assignment]
    shared_place,
    hard_edge,
    parting_rays,
    missed,
    back_face,
    struck_another_part,
    leaning_detail,
    seam_break,
    farther_surface,
    strained_gradient,
    wavy_outline,
    neighbour_occlusion,
)
REGISTRY: dict[str, Detector] = {module.KEY: module for module in DETECTORS}
IN_TEXELS = {  # causes whose texels look worse than the best on this low
    *(key for key, detector in REGISTRY.items() if not getattr(detector, "WHOLE_SHEET", False)),
    missed.OUTSIDE[0],
    missed.TURNED[0],
}


def flaws_of(
    contexts: list[Context],
    visible: list[Visible],
    findings: list[Finding] | None = None,
    trial: Trial | None = None,
    foreign: bool = False,
) -> FlawList:
    """The flaws on all sheets of a bake, the worst first, with those that checks before a bake can tell.

    `trial` says what rays of other ways would draw (`trials`). Of `foreign` maps, which were made elsewhere, only the
    places can be told: the contexts' casts explain nothing.
    """
    flaws, harmless = list[MarkedFlaw](), 0
    looked = [seen_of(*each) for each in zip(contexts, visible, strict=True)]
    every = [_wrong(seen, foreign) for seen in looked]
    looked = tried(looked, every, trial) if trial and not foreign else looked
    for number, (seen, rows) in enumerate(zip(looked, every, strict=True)):
        wrong, free, eye = seen.at(rows), np.ones(len(seen.x), bool), cache(partial(eye_of, seen))
        for detector in (map_from_elsewhere,) if foreign else DETECTORS:
            whole = getattr(detector, "WHOLE_SHEET", False)
            if len(seen.x) and (whole or len(rows)):
                subject, numbers = (seen, np.arange(len(seen.x))) if whole else (wrong, rows)
                told, less = _regions(subject, detector, free, numbers, eye)
                for shown in told:
                    shown.flaw.sheet = number
                flaws, harmless = flaws + told, harmless + less
    turned = any(shown.flaw.cause == missed.TURNED[0] for shown in flaws)
    for finding in findings or []:
        flaw = flaw_of(finding, looked)
        if flaw is None or (turned and flaw.cause == missed.TURNED[0]):  # nothing, or told by its texels
            continue
        flaws.append(MarkedFlaw(flaw, finding.marks.corners, finding.marks.uvs, finding.marks.on_low))
    worst = told_once(without_rims(sorted(flaws, key=lambda shown: -shown.noticed)))
    said = contexts[0].assembly.recipe.accepted if contexts else []
    told = [shown for shown in worst if not shown.flaw.is_among(said, _along(contexts, shown.flaw))]
    return FlawList([one.with_mends() for one in told[:MOST_FLAWS]], len(told), harmless, len(worst) - len(told))


def _along(contexts: list[Context], flaw: Flaw) -> Callable[[Accepted], float] | None:
    """How far along the low a flaw's worst place lies from an accepted one; None for what has no place on a sheet."""
    if flaw.texel is None or flaw.spot is None:
        return None
    context, (x, y) = contexts[flaw.sheet], flaw.texel
    triangle = context.low.triangles[[context.cast.low_triangle[y, x]]]
    place = np.array([flaw.spot])

    def away(accepted: Accepted) -> float:
        patch = context.warm.ground(context.low.mesh).around(accepted.centre, AROUND_A_BEND * accepted.radius)
        return float(patch.distance(triangle, place)[0])

    return away


def _wrong(seen: TexelRows, foreign: bool) -> I64:
    """The rows that look worse than the best on this low, or than a sculpt where rays missed it."""
    return np.flatnonzero(seen.looks.excess > np.where((seen.struck == 0) & ~np.bool_(foreign), MISSED, SHOWS))


def _regions(
    seen: TexelRows, detector: Detector, free: Bool, numbers: I64, eye: Callable[[], Eye]
) -> tuple[list[MarkedFlaw], int]:
    """The flaws that a detector finds, part by part, and how many places show too little.

    What lies together on a part, across UV seams, is one. `free` is of all rows, and loses those that are explained by
    it; `numbers` (N,) are those of the rows that are seen.
    """
    found = detector.find(seen)
    if getattr(detector, "EXPLAINS", False):
        free[numbers[found.rows]] = False
    detected = _unexplained(found, free, numbers)
    if not len(detected.rows):
        return [], 0
    thinned = max(1, -(-len(detected.rows) // MOST_ROWS))
    kept = np.arange(len(detected.rows))[::thinned]
    objects = seen.context.low.mesh.objects[seen.context.low.triangles[seen.triangle[detected.rows[kept]]]]
    regions = list[I64]()
    for part in np.unique(objects):
        region = kept[objects == part]
        regions += (
            [region]
            if getattr(detector, "BY_PART", False)
            else _joined(detected, _together(seen, detected.rows, region, thinned))
        )
    large = [region for region in regions if len(region) * thinned >= FEWEST]
    noticed = [region for region in large if _is_seen(seen, detected, region, thinned)]
    whole = getattr(detector, "BY_PART", False) and not getattr(detector, "IN_PLACES", False)
    places = [each for region in noticed for each in ([region] if whole else _places(seen, detected, region, thinned))]
    return [_shown(seen, detector, detected, place, thinned, eye()) for place in places], len(regions) - len(noticed)


def _places(seen: TexelRows, detected: FlawRows, region: I64, thinned: int) -> list[I64]:
    """A region that is noticed as places that one looks at together.

    It stays whole where none is noticed alone, and where what cures it is no matter of a place.
    """
    places = [region[each] for each in parted(seen, detected.rows[region])]
    if len(places) < 2:
        return [region]
    told = detected.tell(region)
    mends = told.mends(spot_of(seen, told.title or "Flaw", detected.rows[region]))
    if told.by_part or not mends or not mends[0].of_a_place:
        return [region]
    noticed = [len(place) * thinned >= FEWEST and _is_seen(seen, detected, place, thinned) for place in places]
    shown = [place for place, is_seen in zip(places, noticed, strict=True) if is_seen]
    faint = [place for place, is_seen in zip(places, noticed, strict=True) if not is_seen]
    return with_near_by(seen, detected.rows, shown, faint) or [region]


def _is_seen(seen: TexelRows, detected: FlawRows, region: I64, thinned: int) -> bool:
    """Whether a viewer sees it: some plainly wrong, or much that is somewhat wrong."""
    error, share = _look_of(seen, detected, region)
    share *= thinned
    if detected.error is not None:
        return share >= LEAST
    rows = detected.rows[region]
    if float(seen.looks.pixels[rows].sum()) * thinned < ENOUGH:
        return False
    lit = seen.looks.pixels[rows][contrast(seen.looks.excess[rows]) >= DARK]
    if float(lit.sum()) * thinned >= VISIBLE * seen.visible.total:
        return True
    plain = float(seen.looks.share[rows][seen.looks.excess[rows] > PLAINLY].sum()) * thinned
    least = MISSED if (seen.struck[rows] == 0).mean() > 0.5 else SHOWS
    return plain >= LEAST or (share >= LARGE and error > least)


def _unexplained(found: FlawRows, free: Bool, numbers: I64) -> FlawRows:
    """Of what a detector found the rows that nothing else explains; they are free no more."""
    if found.error is not None:
        return found
    places = np.flatnonzero(free[numbers[found.rows]])
    rows = found.rows[places]
    free[numbers[rows]] = False
    return FlawRows(rows, lambda region: found.tell(places[region]))


def _joined(detected: FlawRows, regions: list[I64]) -> list[I64]:
    """Regions of a part, those that are one thing as one."""
    large = [region for region in regions if len(region) >= FEWEST]
    one = [region for region in large if detected.tell(region).by_part]
    if len(one) < 2:
        return regions
    return [region for region in regions if not any(region is each for each in one)] + [np.concatenate(one)]


def _together(seen: TexelRows, rows: I64, region: I64, thinned: int) -> list[I64]:
    """Those of some rows that lie together: texels of a part differ in size, the larger ones say how close that is."""
    apart = TOGETHER * float(np.percentile(seen.size[rows[region]], LARGER)) * np.sqrt(thinned)
    apart = max(apart, NEIGHBOURS * seen.context.assembly.low.diagonal)
    links = cKDTree(seen.place[rows[region]]).query_pairs(apart, output_type="ndarray")
    near = coo_array((np.ones(len(links)), (links[:, 0], links[:, 1])), shape=(len(region), len(region)))
    _, group = connected_components(near, directed=False)
    order = np.argsort(group, kind="stable")
    return np.split(region[order], np.cumsum(np.bincount(group))[:-1])


def _shown(seen: TexelRows, detector: Detector, detected: FlawRows, region: I64, thinned: int, eye: Eye) -> MarkedFlaw:
    rows = detected.rows[region]
    area = seen.size[rows].astype(np.float64) ** 2
    told = detected.tell(region)
    cause, title = told.cause or detector.KEY, told.title or detector.TITLE
    spot = spot_of(seen, title, rows)
    error, share = _look_of(seen, detected, region)
    worst = rows[worst_places(seen, rows)]
    flaw = Flaw(
        cause=cause,
        title=title,
        part=spot.part,
        what=told.what,
        remedy=told.remedy,
        middle=spot.middle,
        radius=spot.radius,
        area=float(area.sum()) * thinned,
        error=error,
        share=share * thinned,
        spots=[(x, y, z) for x, y, z in seen.place[worst].tolist()],
        texel=(int(seen.x[worst[0]]), int(seen.y[worst[0]])),
    )

    def lay() -> list[Mend]:
        return [mend.model_copy(update={"cause": cause}) for mend in told.mends(spot)]

    lit, drawn = float(contrast(np.array([error]))[0]), eye.draws(seen.place[worst], seen.normal[worst[0]])
    return MarkedFlaw(flaw, *_squares(seen, rows), lit=lit, eye=drawn, lay=lay)


def _look_of(seen: TexelRows, detected: FlawRows, region: I64) -> tuple[float, float]:
    """How wrong a region looks, and what that adds to the mean of the whole; degrees."""
    looks, rows = seen.looks, detected.rows[region]
    pixels = looks.pixels[rows]
    if detected.error is not None:
        each = np.maximum(pixels, FEW)
        error = float((detected.error[region] * each).sum() / each.sum())
        return error, error * float(pixels.sum()) / max(seen.visible.total, FEW)
    share = float(looks.share[rows].sum())
    return share * max(seen.visible.total, FEW) / max(float(pixels.sum()), FEW), share


def _squares(seen: TexelRows, rows: I64) -> tuple[F32, F32]:
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
