"""Coverage: which of the sculpt's surface a cage holds, by how much it misses, and what reach would hold it."""

from dataclasses import dataclass, replace

import numpy as np
from pydantic import BaseModel

from ..base.array_types import F32, F64, I32, Bool
from ..base.kernels import kernel
from ..base.progress import Cancel
from ..base.records import Record
from ..base.threads import in_batches
from ..mesh.marks import Marks, marks_of
from ..mesh.mesh import corner_positions
from ..mesh.normals import face_normals
from ..piece.piece import Assembly
from ..piece.sculpt import Sculpt
from ..rays.ray import make_ray
from .cage import Cage, rays_of
from .cage_file_verdict import CageVerdict, cage_verdicts
from .contours import Contours, contours
from .inverse_rays import Located
from .self_intersection import folds_of
from .shortfalls import APART, LACKS, Shortfall, shortfalls_of
from .unserved_rays import Gaps, gaps_of

BINS = 60
TOLERANCE = 1e-6  # of the diagonal


@dataclass(frozen=True, slots=True)
class CageFacts:
    """Of the cage itself: mean distance from the low over its surface, and faces that are folded or cross others."""

    mean_outward: float
    folded: int
    crossing: int
    bad_faces: Marks


@dataclass(frozen=True, slots=True)
class Coverage:
    """What a cage holds of the surface that rays could see; distances in scene units, shares from 0 to 1.

    edges (BINS + 1,) and surface (BINS,) are the histogram of the reach that the sculpt needs, weighed by surface.
    `needed` is the outward and inward reach that would hold everything; what would serve best is measured by trial
    (`bake/measured_reach.py`).
    out and below are lines on the low of how far the sculpt stands out, and lies below; `gaps` tell of the low's side.
    `closest` is the place nearest to an end of its rays where all are held, with how far beyond it is: below 0.
    """

    held: float
    points: int
    points_outside: int
    points_below: int
    worst_outside: float
    worst_below: float
    needed: tuple[float, float]
    edges: F64
    surface: F64
    places: list[Shortfall]
    out: Contours
    below: Contours
    cage: CageFacts
    gaps: Gaps
    verdicts: tuple[CageVerdict, ...] = ()
    closest: Shortfall | None = None

    @property
    def nearest_end(self) -> str:
        """Which end of its ray the closest point comes near, in words."""
        return "the outer reach" if self.closest and self.closest.lack == "outside" else "the inner reach"

    @property
    def all_well(self) -> bool:
        """Whether the cage holds everything and every ray of the low strikes."""
        return self.held == 1 and not self.gaps.missed and not any(verdict.wrong for verdict in self.verdicts)


def coverage(
    assembly: Assembly,
    sculpt: Sculpt,
    cage: Cage,
    located: Located,
    lows: Bool | None = None,
    cancelled: Cancel = lambda: False,
) -> Coverage:
    """How well a cage holds the sculpt as `inverse_rays.locate` found it, for all or the marked `lows (T,)`.

    Copies (`piece.copies`) are left out.
    """
    within = assembly.judged if lows is None else assembly.judged & lows
    chosen, facts = within[located.triangle], _cage_facts(assembly, cage, within)
    gaps, verdicts = gaps_of(assembly, sculpt, cage, within, cancelled), tuple(cage_verdicts(assembly, cage))
    t, height = located.triangle[chosen], located.height[chosen]
    weight, place = located.weight[chosen], located.place[chosen]
    if not len(t):  # no ray comes near the sculpt, if there is one
        held = 0.0 if len(sculpt.mesh.triangles) else 1.0
        return replace(_NOTHING, held=held, cage=facts, gaps=gaps, verdicts=verdicts)
    (above, below), b, rays = np.empty((2, len(t)), np.float32), located.b[chosen], rays_of(assembly, cage)

    def work(i: int, j: int) -> None:
        _beyond(t[i:j], b[i:j], height[i:j], above[i:j], below[i:j], rays.record)

    in_batches(len(t), work, cancelled=cancelled)
    reach, slack = located.reach[chosen], TOLERANCE * assembly.low.diagonal
    outside, under = above > slack, below > slack
    needed = max(float(reach.max()), 0.0), max(float(-reach.min()), 0.0)
    surface, edges = np.histogram(reach, BINS, (-needed[1] - slack, needed[0] + slack), weights=weight)
    lost, nearest = outside | under, np.maximum(above, below)
    told = lost if lost.any() else nearest == nearest.max()
    clusters = shortfalls_of(
        place[told],
        nearest[told],
        np.where(above[told] >= below[told], LACKS.index("outside"), LACKS.index("below")).astype(np.int32),
        located.owner[chosen][told],
        sculpt.keys,
        max(APART * assembly.low.diagonal, 4 * float(np.sqrt(weight.sum() / len(t)))),
        face_normals(assembly.low.positions, assembly.low.triangles[t[told]]),
    )
    return Coverage(
        held=float(weight[~lost].sum() / max(weight.sum(), 1e-300)), points=len(t),
        points_outside=int(outside.sum()), points_below=int(under.sum()),
        worst_outside=float(above.max()) if outside.any() else 0.0,
        worst_below=float(below.max()) if under.any() else 0.0, needed=needed, edges=edges, surface=surface,
        places=clusters if lost.any() else [], out=contours(assembly.low, t, b, above),
        below=contours(assembly.low, t, b, below), cage=facts, gaps=gaps, verdicts=verdicts,
        closest=None if lost.any() else clusters[0],
    )  # fmt: skip


class CoverageFacts(BaseModel):
    """A coverage in numbers: shares from 0 to 1, distances in scene units."""

    held: float
    vertices: int
    vertices_outside: int
    vertices_below: int
    worst_outside: float
    worst_below: float
    needed_outward: float
    needed_inward: float
    mean_outward: float
    rays_missed: float
    rays_behind: float
    faces_folded: int
    faces_crossing: int

    @classmethod
    def of(cls, measured: Coverage) -> "CoverageFacts":
        return cls(
            held=measured.held,
            vertices=measured.points,
            vertices_outside=measured.points_outside,
            vertices_below=measured.points_below,
            worst_outside=measured.worst_outside,
            worst_below=measured.worst_below,
            needed_outward=measured.needed[0],
            needed_inward=measured.needed[1],
            mean_outward=measured.cage.mean_outward,
            rays_missed=measured.gaps.missed,
            rays_behind=measured.gaps.behind,
            faces_folded=measured.cage.folded,
            faces_crossing=measured.cage.crossing,
        )


_NOTHING = Coverage(
    0,
    0,
    0,
    0,
    0,
    0,
    (0, 0),
    np.linspace(-1, 1, BINS + 1),
    np.zeros(BINS),
    [],
    Contours(),
    Contours(),
    CageFacts(0, 0, 0, Marks()),
    Gaps(0, 0, Contours(), []),
)


def _cage_facts(assembly: Assembly, cage: Cage, within: Bool) -> CageFacts:
    folds, low, channel = folds_of(assembly, cage), assembly.low, assembly.recipe.sheet.channel
    folded, crossing = folds.folded & within, folds.crossing & within
    uvs = low.uvs[channel].at_corners() if channel < len(low.uvs) else None
    marks = marks_of(low, folded | crossing, uvs, True)
    return CageFacts(_mean_length(assembly, cage, within), int(folded.sum()), int(crossing.sum()), marks)


def _mean_length(assembly: Assembly, cage: Cage, within: Bool) -> float:
    """Mean distance from the low to the cage over the surface of some triangles of the low."""
    p = corner_positions(assembly.low)[within].astype(np.float64)
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    length = np.linalg.norm(cage.corners[within], axis=2).mean(axis=1)
    return float((area * length).sum() / max(area.sum(), 1e-300))


@kernel
def _beyond(triangle: I32, b: F32, height: F32, above: F32, below: F32, rays: Record) -> None:
    """How far each point lies above the cage, and how far below the end of its ray; negative where it is held."""
    for i in range(len(triangle)):
        ray = make_ray(triangle[i], b[i, 0], b[i, 1], b[i, 2], rays)
        above[i] = height[i] - ray[6]
        below[i] = ray[6] - ray[7] - height[i]


def round_up(value: float) -> float:
    """The next number with three figures."""
    if value <= 0:
        return 0.0
    digits = 2 - int(np.floor(np.log10(value)))
    return round(float(np.ceil(value * 10.0**digits - 1e-4)) / 10.0**digits, max(digits, 0))
