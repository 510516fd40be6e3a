"""Faces wound inside out, as a whole, shell by shell, or against their neighbours. Rays pass through faces that look away.

A shell that encloses a volume tells by it. An open one tells by what lies opposite: where the nearest surface of its partners
looks the other way all over, one of both is turned over.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..base.array_types import F64, I32, I64, Bool
from ..base.on_demand import on_demand
from ..mesh.shells import MOST_SHELLS, place_in, volume_of
from ..mesh.surface_samples import surface_of
from .finding import Finding, Inspected, Remedy, Subject, plural

cKDTree = on_demand("scipy.spatial", "cKDTree")

KEY = "winding"
TITLE = "Winding"
LEAST = 1e-9  # of the cube of its mesh's diagonal: a smaller volume is none
LOW_POINTS, HIGH_POINTS = 20_000, 200_000  # over all pairs together,
LOW_A_PAIR, HIGH_A_PAIR = 500, 5_000  # but no fewer than so many over each
FIRST_LOOK = 20  # times fewer points say first whether any shell could look away
AWAY = 0.8  # share of a shell's points that must meet a face looking the other way
FEWEST = 12  # points
ASKEW = np.linalg.qr(np.array([[3.0, 1.0, 2.0], [-1.0, 4.0, 1.0], [1.0, -2.0, 5.0]]))[0]
# A turn that lays no axis along anything: a tree of points splits space along its axes, so of a plane across one of
# them it could leave nothing out, however far away that is.
NEAR = 0.1  # of the low's diagonal: what lies farther off is no partner


def find(piece: Inspected) -> Iterator[Finding]:
    """Inconsistent winding, then whole parts and single shells that look away."""
    consistent = []
    for subject in piece.all:
        against = subject.edges.against
        count = int(against.sum()) // 2
        if count:
            yield Finding(
                KEY,
                "warning",
                "Inconsistent winding",
                subject.part.key,
                count,
                f"Across {plural(count, 'edge')} of {subject.part.name} neighbouring faces look to opposite sides; rays "
                "pass through those that look away.",
                "Make the normals consistent in the modelling program.",
                marks=subject.marks(against),
            )
        elif len(subject.mesh.triangles) and subject.role != "float":
            consistent.append(subject)
    told, shells = set[tuple[str, int]](), {s.part.key: _shells(s) for s in consistent}
    for shell in (shell for own in shells.values() for shell in own):
        if shell.volume < 0:
            told.add(shell.key)
            yield _finding(shell.subject, shell.rows, "looks inward, so rays pass through it")
    pairs = piece.assembly.paired.pairs
    counts = max(LOW_POINTS // max(len(pairs), 1), LOW_A_PAIR), max(HIGH_POINTS // max(len(pairs), 1), HIGH_A_PAIR)
    for pair in pairs:
        lows, highs = (
            [shell for s in given if s.pair == pair.name for shell in shells.get(s.part.key, [])]
            for given in (piece.lows, piece.highs)
        )
        few = max(counts[0] // FIRST_LOOK, LOW_A_PAIR), max(counts[1] // FIRST_LOOK, HIGH_A_PAIR)
        met = _meet(lows, highs, few)
        if met is None or not met.could_be_wrong():
            continue
        closer = met if few == counts else _meet(lows, highs, counts) or met
        for shell in _opposed(lows, highs, told, closer):
            yield _finding(shell.subject, shell.rows, "looks away from what lies opposite, so no ray strikes it")


@dataclass(frozen=True)
class _Shell:
    """A shell of a part: its triangles, and whether its own normals contradict its winding."""

    subject: Subject
    number: int
    rows: I64

    @property
    def triangles(self) -> I32:
        every = self.subject.mesh.triangles
        return every if len(every) == len(self.rows) else every[self.rows]

    @property
    def key(self) -> tuple[str, int]:
        return self.subject.part.key, self.number

    @cached_property
    def volume(self) -> float:
        """What it encloses, signed; 0 for nothing, as under an open sheet."""
        mesh = self.subject.mesh
        volume = volume_of(mesh.positions, self.triangles)
        return volume if abs(volume) > LEAST * mesh.diagonal**3 else 0.0

    def contradicts_itself(self) -> bool:
        """Whether the normals of the file look away from the faces."""
        normals = self.subject.mesh.normals
        if normals is None:
            return False
        p = self.subject.mesh.positions[self.triangles].astype(np.float64)
        facing = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
        along = np.einsum("tkc,tc->t", normals.at_corners()[self.rows], facing)
        return bool((along < 0).mean() > AWAY)


def _shells(subject: Subject) -> list[_Shell]:
    """The largest shells of a part."""
    shell = subject.shells
    order = np.argsort(shell, kind="stable")
    groups = np.split(order, np.cumsum(np.bincount(shell))[:-1])
    shells = [_Shell(subject, number, rows) for number, rows in enumerate(groups)]
    return sorted(shells, key=lambda one: -len(one.rows))[:MOST_SHELLS]


@dataclass(frozen=True, slots=True)
class _Met:
    """Points of lows that have a partner near by: whose they are, whose partner's, and whether that looks away, (N,)."""

    owner: I64
    partner: I64
    away: Bool
    shells: tuple[int, int]

    def could_be_wrong(self) -> bool:
        """Whether there is a shell that half of its points contradict, or too few points to say."""
        for owner, count in ((self.owner, self.shells[0]), (self.partner, self.shells[1])):
            met, bad = np.bincount(owner, minlength=count), np.bincount(owner, self.away, count)
            if ((met < 4 * FEWEST) | (bad > AWAY / 2 * met)).any():
                return True
        return False


def _meet(lows: list[_Shell], highs: list[_Shell], counts: tuple[int, int]) -> _Met | None:
    """What lies opposite some lows, by so many points on each side; None where there is nothing to compare."""
    if not lows or not highs or max(len(lows), len(highs)) > MOST_SHELLS:
        return None
    (points, normals, owner), (others, facing, partner) = _cloud(lows, counts[0]), _cloud(highs, counts[1])
    limit = NEAR * float(np.linalg.norm(np.ptp(points, axis=0)))
    tree = cKDTree(others @ ASKEW)
    distance, nearest = tree.query(points @ ASKEW, distance_upper_bound=max(limit, 1e-30), workers=-1)
    met = np.isfinite(distance)
    nearest = nearest[met]
    away = np.einsum("nc,nc->n", normals[met], facing[nearest]) < 0
    return _Met(owner[met], partner[nearest], away, (len(lows), len(highs)))


def _opposed(lows: list[_Shell], highs: list[_Shell], told: set[tuple[str, int]], met: _Met) -> list[_Shell]:
    """Shells that look the other way than their partners all over; of two, the one that is more likely wrong."""
    low_wrong = _wrong(met.owner, met.away, len(lows))
    high_wrong = _wrong(met.partner, met.away, len(highs))
    findings = []
    for n in np.flatnonzero(high_wrong).tolist():
        shell = highs[n]
        opposite = np.unique(met.owner[(met.partner == n) & met.away])
        lows_there = [lows[k] for k in opposite.tolist() if low_wrong[k]]
        if shell.key in told or any(low.key in told for low in lows_there):
            continue  # that one of them encloses less than nothing is why
        findings += _blamed(shell, lows_there)
    return list({finding.key: finding for finding in findings}.values())


def _blamed(high: _Shell, lows: list[_Shell]) -> list[_Shell]:
    """Which of a high and the lows opposite is turned over: what encloses a volume or keeps to its normals is right."""
    if high.volume:
        return [low for low in lows if not low.volume]
    if not lows or high.contradicts_itself() or any(low.volume for low in lows):
        return [high]
    odd = [low for low in lows if low.contradicts_itself()]
    return odd or [high]


def _cloud(shells: list[_Shell], count: int) -> tuple[F64, F64, I64]:
    """Places spread over some shells, the normals of their faces, and whose they are."""
    surface = surface_of([(shell.subject.mesh.positions, shell.triangles) for shell in shells])
    places, owner = surface.places(count)
    corners = surface.corners(owner)
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return places, normals, surface.part_of(owner)


def _wrong(owner: I64, away: Bool, count: int) -> Bool:
    """Shells of which nearly all points meet a face that looks the other way."""
    met, bad = np.bincount(owner, minlength=count), np.bincount(owner, away, count)
    return np.asarray((met >= FEWEST) & (bad > AWAY * met))


def _finding(subject: Subject, rows: I64, how: str) -> Finding:
    chosen: Bool = np.zeros(len(subject.mesh.triangles), np.bool_)
    chosen[rows] = True
    whole = bool(chosen.all())
    name = subject.part.name if whole else f"A shell of {subject.part.name}"
    near = None if whole else place_in(subject.mesh.positions[subject.mesh.triangles[rows]].astype(np.float64))
    return Finding(
        KEY,
        "warning",
        "Inside out",
        subject.part.key,
        len(rows),
        f"{name} ({plural(len(rows), 'face')}) {how}.",
        "Turn its faces over.",
        Remedy("Turn the faces over", "flip_winding", subject.part.file, subject.part.name, near=near),
        marks=subject.marks(chosen),
    )
