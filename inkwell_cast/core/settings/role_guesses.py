"""Roles of files whose names say nothing, proposed from their UVs, their size and where they lie. Always a guess."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F64
from .files import Role

DENSER = 3.0  # times the triangles of a low that a sculpt of it has at least
TOGETHER = 0.3  # of the smaller box: with less in common two meshes are not of one piece
MANY = 100_000  # triangles of a mesh that is hardly a low
AROUND = 1e-6  # of its diagonal by which a cage stands off its low
TWIN = "; if it is a low of its own, give it that role"


@dataclass(frozen=True, slots=True)
class MeshFacts:
    """What is known of a file without looking at its triangles.

    `uvs` says whether it has any; bounds are lowest and highest corner, scene units; `role` is what its name says, ""
    for nothing.
    """

    triangles: int
    uvs: bool
    bounds: tuple[tuple[float, ...], tuple[float, ...]]
    role: Role | str = ""


@dataclass(frozen=True, slots=True)
class Guess:
    """A role that is proposed for a file, "" where nothing speaks for any, and why."""

    role: Role | str
    why: str


def guess_roles(files: dict[str, MeshFacts]) -> dict[str, Guess]:
    """Roles for those of some files, by name, whose own names give none."""
    known = {name: facts for name, facts in files.items() if facts.role}
    open_ = {name: facts for name, facts in files.items() if not facts.role}
    guesses = dict[str, Guess]()
    for name, facts in sorted(open_.items(), key=lambda item: (item[1].triangles, _size(item[1].bounds))):
        guesses[name] = _guess(facts, {**known, **{n: _with(open_[n], g) for n, g in guesses.items()}}, open_)
    return guesses


def _with(facts: MeshFacts, guess: Guess) -> MeshFacts:
    return MeshFacts(facts.triangles, facts.uvs, facts.bounds, guess.role)


def _guess(facts: MeshFacts, known: dict[str, MeshFacts], others: dict[str, MeshFacts]) -> Guess:
    """The role of a file, those with fewer triangles and those whose names tell being known."""
    lows = {name: low for name, low in known.items() if low.role == "low" and overlap(facts.bounds, low.bounds)}
    for name, low in lows.items():
        if facts.triangles == low.triangles and _holds(facts.bounds, low.bounds):
            return Guess("cage", f"as many triangles as {name}, and around it{TWIN if facts.uvs else ''}")
    for name, low in lows.items():
        if facts.triangles >= DENSER * low.triangles:
            times = facts.triangles / max(low.triangles, 1)
            return Guess("high", f"{times:.0f} times the triangles of {name}, in its place")
    highs = [name for name, high in known.items() if high.role == "high" and overlap(facts.bounds, high.bounds)]
    highs += [
        name
        for name, other in others.items()
        if other.triangles >= DENSER * facts.triangles and overlap(facts.bounds, other.bounds)
    ]
    if facts.uvs and highs:
        return Guess("low", f"has UVs, and fewer triangles than {highs[0]} in its place")
    if facts.uvs and facts.triangles < MANY:
        return Guess("low", "has UVs, and no more triangles than a low")
    if facts.uvs:
        return Guess("high", f"has UVs, but {facts.triangles:,} triangles".replace(",", "\u202f"))
    return Guess("high", "has no UVs, so nothing can be baked onto it")


def overlap(one: tuple[tuple[float, ...], ...], other: tuple[tuple[float, ...], ...]) -> bool:
    """Whether two boxes have a good part of the smaller one in common; flat ones are a little thick."""
    (a, b), (c, d) = np.asarray(one, np.float64), np.asarray(other, np.float64)
    thin = 1e-3 * max(float(np.linalg.norm(b - a)), float(np.linalg.norm(d - c)), 1e-30)
    common = np.minimum(b, d) - np.maximum(a, c) + thin
    smaller = min(_volume(b - a + thin), _volume(d - c + thin))
    return bool((common > 0).all()) and _volume(common) >= TOGETHER * smaller


def _size(bounds: tuple[tuple[float, ...], tuple[float, ...]]) -> float:
    return float(np.linalg.norm(np.subtract(bounds[1], bounds[0])))


def _volume(sides: F64) -> float:
    return float(sides[0] * sides[1] * sides[2])


def _holds(outer: tuple[tuple[float, ...], ...], inner: tuple[tuple[float, ...], ...]) -> bool:
    (a, b), (c, d) = np.asarray(outer, np.float64), np.asarray(inner, np.float64)
    off = AROUND * np.linalg.norm(d - c)
    return bool((a <= c + off).all() and (b >= d - off).all() and ((b - a).sum() > (d - c).sum()))
