"""What a check gives back, and what it is given."""

from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal, get_args

import numpy as np

from ..base.array_types import F32, I32, AnyArray, Bool
from ..mesh.adjacency import Edges, edges_of, islands_of, seams_of
from ..mesh.marks import Marks, marks_of
from ..mesh.mesh import Mesh
from ..mesh.normals import with_normals
from ..mesh.shells import shells_of
from ..piece.assembly import low_part
from ..piece.piece import Assembly, take
from ..settings.files import Fix, FixKind
from ..settings.pairing import Part

Severity = Literal["blocking", "warning", "note"]
FIXES: dict[str, FixKind] = {kind: kind for kind in get_args(FixKind)}
SEVERITIES: tuple[Severity, ...] = ("blocking", "warning", "note")


@dataclass(frozen=True, slots=True)
class Remedy:
    """A change that the page makes with one click: a fix of a part, its pair, or new settings of a file."""

    words: str
    kind: FixKind | Literal["align", "together", "alone", "own_source", "pair", "level", "nearer", "float"]
    file: str = ""
    part: str = ""
    scale: float = 1.0
    move: tuple[float, float, float] = (0.0, 0.0, 0.0)
    pair: str = ""
    level: str = ""
    turn: str = ""
    near: tuple[float, float, float] | None = None
    places: tuple[tuple[float, float, float], ...] = ()  # of "leave_out": one on each shell; none for the whole part
    angle: float = 180.0  # of "smooth": edges that bend by more stay hard, degrees
    change: tuple[float, ...] = ()  # of "align": the matrix (4, 4), row by row, from where the file lies now
    files: tuple[str, ...] = ()  # of "nearer"

    @property
    def fixes(self) -> list[Fix]:
        """Its corrections of a part; raises KeyError for a remedy of another kind."""
        kind = FIXES[self.kind]
        return [Fix(kind=kind, part=self.part, near=near, angle=self.angle) for near in self.places or (self.near,)]


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is wrong; `what` says it with its numbers, `remedy` what to do, `others` what one may do instead."""

    check: str
    severity: Severity
    title: str
    part: str
    count: int
    what: str
    remedy: str
    fix: Remedy | None = None
    marks: Marks = field(default_factory=Marks)
    others: tuple[Remedy, ...] = ()

    @property
    def remedies(self) -> tuple[Remedy, ...]:
        """All that the page does with one click, the best first."""
        return (*([self.fix] if self.fix else []), *self.others)

    @property
    def place(self) -> tuple[list[float], float] | None:
        """Centre and radius of what is marked, or None."""
        return self.marks.place


@dataclass(frozen=True)
class Subject:
    """One object of the piece, with what several checks ask of it, computed once."""

    part: Part
    role: str
    pair: str
    mesh: Mesh
    channel: int
    copies: I32 = field(default_factory=lambda: np.zeros(0, np.int32))

    @property
    def judged(self) -> Bool:
        """Which of its triangles (T,) can be compared with the sculpt: those of no copy."""
        return np.asarray(self.copies < 0) if len(self.copies) else np.ones(len(self.mesh.triangles), np.bool_)

    @cached_property
    def edges(self) -> Edges:
        return edges_of(self.mesh)

    @cached_property
    def shells(self) -> I32:
        """The shell of every triangle, (T,)."""
        return shells_of(self.edges)

    @cached_property
    def uvs(self) -> F32 | None:
        """(T, 3, 2), or None where a corner has none."""
        if self.channel >= len(self.mesh.uvs) or not self.mesh.uvs[self.channel].complete:
            return None
        return self.mesh.uvs[self.channel].at_corners()

    @cached_property
    def seams(self) -> Bool:
        """Edges (T, 3) where the UVs of both sides differ."""
        assert self.uvs is not None
        return seams_of(self.uvs, self.edges)

    @cached_property
    def islands(self) -> I32:
        """The UV island of every triangle, (T,)."""
        assert self.uvs is not None
        return islands_of(self.uvs, self.edges)

    @property
    def on_low(self) -> bool:
        return self.role in ("low", "self")

    def marks(self, chosen: AnyArray) -> Marks:
        """Triangles to show: those marked (T,), or in a corner or edge (T, 3)."""
        return marks_of(self.mesh, chosen, self.uvs if self.on_low else None, self.on_low)


@dataclass(frozen=True)
class Inspected:
    """A piece as the checks see it."""

    assembly: Assembly
    lows: list[Subject]
    highs: list[Subject]

    @property
    def all(self) -> list[Subject]:
        return [*self.lows, *self.highs]


def inspect(assembly: Assembly) -> Inspected:
    """Every paired part, and those that are alone but have a role."""
    subjects: dict[str, list[Subject]] = {"low": [], "self": [], "high": [], "float": []}
    members = [(pair.name, role, part) for pair in assembly.paired.pairs for role, part in pair.members]
    members += [("", a.role, a.part) for a in assembly.paired.alone]
    dressed = {name: with_normals(mesh) for name, mesh in assembly.files.items() if len(mesh.triangles)}
    for pair, role, part in members:
        if role not in subjects:  # cages are looked at by their pair, parts without a role not at all
            continue
        mesh = assembly.files[part.file]
        if role in ("low", "self"):
            mesh = low_part(assembly.recipe, mesh, part, pair)
            copies = copies_in(assembly, part)
        else:
            mesh, copies = take(dressed.get(part.file, mesh), (part.name,)), np.zeros(0, np.int32)
        subjects[role].append(Subject(part, role, pair, mesh, assembly.recipe.sheet.channel, copies))
    return Inspected(assembly, subjects["low"] + subjects["self"], subjects["high"] + subjects["float"])


def copies_in(assembly: Assembly, part: Part) -> I32:
    """The copy of each triangle of a part of the low, as `Assembly.copies` has them; none for a part that is not in it."""
    if part.key not in assembly.keys or not len(assembly.copies):
        return np.zeros(0, np.int32)
    return assembly.copies[assembly.low.objects == assembly.keys.index(part.key)]


def plural(number: int, one: str, many: str = "") -> str:
    return f"{number:,} {one if number == 1 else many or one + 's'}"
