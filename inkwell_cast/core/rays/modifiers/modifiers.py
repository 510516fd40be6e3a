"""What changes rays at places of the low, all together.

Modifiers are evaluated at the point itself, so they count inside a face too: a cage mesh of another topology, pockets,
straightened faces and brush strokes, in that order. Omissions let rays pass.
"""

from dataclasses import dataclass

import numpy as np

from ...base.array_types import F32, F64, I32, I64, U8, Bool
from ...base.kernel_types import Vector
from ...base.kernels import kernel
from ...base.records import Record, record_kind, record_of, rows_of
from ..along_surface import Spread, no_spread
from .foreign_cage import FOREIGN_CAGE, ForeignCage, no_foreign_cage, through_cage
from .omission import OMISSION, OMISSIONS
from .pocket import POCKET, POCKETS, in_pockets
from .straighten import STRAIGHT, Straight, away_from_bends, in_picture, no_straight, turned_to_face
from .strokes import STRAIGHTEN, STROKES, Nudges, no_nudges, nudged

# which of them touch a triangle of the low, bits of `Rays.flags`
HAS_POCKETS, HAS_STROKES, HAS_FOREIGN_CAGE, IS_FLAT, HAS_OMISSIONS, HAS_PICTURE = 1, 2, 4, 8, 16, 32
IS_NEAREST = 64  # what counts is the surface nearest to the low, see `cast.trace`

MODIFIERS = record_kind(
    {"pockets": POCKETS, "omissions": OMISSIONS, "strokes": STROKES, "straight": STRAIGHT, "cage": FOREIGN_CAGE}
)


@dataclass(frozen=True, slots=True)
class LaidPatches:
    """Patches of one kind over some triangles of a low: numbers (K, N), first centre and radius, and where they lie."""

    numbers: F64
    spread: Spread

    @property
    def touched(self) -> Bool:
        """The triangles that any of them lies on, (P,)."""
        return np.diff(self.spread.starts) > 0

    def touched_by(self, which: Bool) -> Bool:
        """The triangles that any of some (K,) of them lies on, (P,)."""
        sums = np.concatenate([[0], np.cumsum(which[self.spread.owner])])
        return np.asarray(sums[self.spread.starts[1:]] > sums[self.spread.starts[:-1]])

    def on(self, rows: I32 | I64) -> "LaidPatches":
        """Those that some rows of the triangles have."""
        return LaidPatches(self.numbers, self.spread.on(rows))


@dataclass(frozen=True, slots=True)
class Modifiers:
    """Those of a low, made ready for some of its triangles.

    pockets: centre, radius, rim, outward and inward reach. omissions: centre and radius of a patch, and the object of
    the sculpt that rays from it pass through. Scene units.
    """

    pockets: LaidPatches
    nudges: Nudges
    foreign_cage: ForeignCage
    straight: Straight
    omissions: LaidPatches

    @property
    def turns_rays(self) -> bool:
        """Whether any ray is straightened."""
        straight = self.straight
        return bool(straight.flat.any() or len(straight.picture) or (self.nudges.strokes[:, 0] == STRAIGHTEN).any())

    def record(self, points: F32, pair: I32) -> Record:
        """Of the kind `MODIFIERS`, for triangles (P, 3, 3) of the low and their pairs (P,)."""
        turning = points if self.turns_rays else points[:0]
        return record_of(
            MODIFIERS,
            pockets=record_of(POCKETS, pocket=rows_of(self.pockets.numbers, POCKET), spread=self.pockets.spread.record),
            omissions=record_of(
                OMISSIONS, omission=rows_of(self.omissions.numbers, OMISSION), spread=self.omissions.spread.record
            ),
            strokes=self.nudges.record,
            straight=self.straight.record(turning),
            cage=self.foreign_cage.record(pair),
        )

    @property
    def flags(self) -> U8:
        """Which of them touch each of the triangles, (P,)."""
        flags = np.where(self.foreign_cage.grid > 0, HAS_FOREIGN_CAGE, 0)
        flags |= np.where(np.diff(self.nudges.starts) > 0, HAS_STROKES, 0)
        flags |= np.where(self.straight.flat, IS_FLAT, 0) | (HAS_PICTURE if len(self.straight.picture) else 0)
        flags |= np.where(self.pockets.touched, HAS_POCKETS, 0) | np.where(self.omissions.touched, HAS_OMISSIONS, 0)
        return flags.astype(np.uint8)


def no_modifiers(triangles: int, pairs: int) -> Modifiers:
    """None at all, for so many triangles of the low and pairs."""
    return Modifiers(
        LaidPatches(np.zeros((0, 7)), no_spread(triangles)),
        no_nudges(triangles),
        no_foreign_cage(triangles, pairs),
        no_straight(triangles),
        LaidPatches(np.zeros((0, 5)), no_spread(triangles)),
    )


@kernel
def modified_ray(
    t: int, b1: float, b2: float, p: Vector, e: Vector, reach: tuple[float, float], flags: int, modifiers: Record
) -> tuple[float, float, float, float, float]:
    """Direction, outward and inward reach at a point p of triangle t with barycentrics b.

    e is the direction out from the low and `reach` outward and inward reach as they are without modifiers; `flags` say
    which of them touch t.
    """
    (ex, ey, ez), (out, inward) = e, reach
    if flags & HAS_FOREIGN_CAGE:
        ex, ey, ez, out = through_cage(t, b1, b2, p, e, out, modifiers)
    if flags & HAS_POCKETS:
        out, inward = in_pockets(t, p[0], p[1], p[2], out, inward, modifiers)
    out, straight = _straightness(t, b1, b2, p, out, flags, modifiers)
    if straight > 0:
        ex, ey, ez = turned_to_face(t, ex, ey, ez, straight, modifiers)
    return ex, ey, ez, out, inward


@kernel
def straightness_at(t: int, b1: float, b2: float, p: Vector, flags: int, modifiers: Record) -> float:
    """How far the ray at a point p of triangle t is turned to its face, 0 to 1."""
    if not flags & (IS_FLAT | HAS_PICTURE | HAS_STROKES):
        return 0.0
    return _straightness(t, b1, b2, p, 0.0, flags, modifiers)[1]


@kernel
def _straightness(
    t: int, b1: float, b2: float, p: Vector, out: float, flags: int, modifiers: Record
) -> tuple[float, float]:
    """Outward reach after nudges, and how far the ray is turned to its face: flat faces, a picture, then strokes."""
    straight = away_from_bends(t, p[0], p[1], p[2], modifiers) if flags & IS_FLAT else 0.0
    if flags & HAS_PICTURE:
        straight += (1 - straight) * in_picture(t, b1, b2, modifiers)
    if flags & HAS_STROKES:
        return nudged(t, p[0], p[1], p[2], out, straight, modifiers)
    return out, straight
