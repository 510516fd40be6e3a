"""Pieces that lie far from the origin, or are very small or large, taken nearer: in 64 bits, by their files' settings.

Numbers of 32 bits hold a place in steps of a sixteen-millionth of its distance from the origin, and squares of very
small lengths not at all. So what lies farther than `FAR` times its size is moved, and what is beyond `SMALLEST` to
`LARGEST` is scaled by a power of two, which changes no picture. Readers keep what they take off in `Mesh.origin`.
"""

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from ..base.array_types import F64
from ..mesh.fixes import Box, box_of
from ..mesh.mesh import FAR, Mesh, step_of
from ..settings.files import FileSettings
from ..settings.recipe import Recipe
from .piece import BakeMeshes

SMALLEST, LARGEST = 2.0**-20, 2.0**40  # sizes, scene units: beyond them pictures change with the scale
MOST_SIZES = 1e6  # from the origin
BALLS = ("pockets", "omissions", "patches", "creases", "heals", "accepted")
Place = tuple[float, float, float]


class Boxed(Protocol):
    @property
    def bounds(self) -> Box: ...


@dataclass(frozen=True, slots=True)
class Nearer:
    """How files are taken: moved first, then scaled about the origin."""

    move: Place = (0.0, 0.0, 0.0)
    scale: float = 1.0

    def of(self, settings: FileSettings) -> FileSettings:
        moved = tuple((at + by) * self.scale for at, by in zip(settings.move, self.move, strict=True))
        return settings.model_copy(update={"move": moved, "scale": settings.scale * self.scale})


def near_origin(recipe: Recipe, meshes: BakeMeshes) -> Recipe:
    """The recipe with what takes these meshes near the origin, or as it is where they lie near enough."""
    boxes = {name: box_in_file(mesh) for name, mesh, _ in meshes.distinct() if len(mesh.positions)}
    return taken_nearer(recipe, nearer_of(recipe, boxes), boxes)


def box_in_file(mesh: Mesh) -> Box:
    """Lowest and highest corner of a mesh as its file has them."""
    low, high = (mesh.bounds.astype(np.float64) + np.array(mesh.origin)).tolist()
    return tuple(low), tuple(high)


def whole_box(parts: Iterable[Boxed]) -> Box:
    """The box around some parts of a file; empty at the origin where none has a place."""
    boxes = np.array([part.bounds for part in parts], np.float64).reshape(-1, 2, 3)
    low, high = (boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)) if len(boxes) else (np.zeros(3), np.zeros(3))
    return tuple(low.tolist()), tuple(high.tolist())


def nearer_of(recipe: Recipe, boxes: Mapping[str, Box]) -> Nearer:
    """What brings a piece of some files near the origin; nothing where one of them lies there as it is taken now."""
    placed = [box for name, own in boxes.items() if (box := box_of([(recipe.file(name), own)])) is not None]
    sizes = [size_of(box) for box in placed]
    if not placed or not max(sizes) > 0:
        return Nearer()
    nearest = min(placed, key=distance_of)
    move = np.zeros(3)
    if distance_of(nearest) > FAR:
        step = step_of(nearest)
        move = -np.round(nearest.mean(axis=0) / step) * step
    size = max(sizes)
    beyond = not SMALLEST <= size <= LARGEST
    x, y, z = (move + 0.0).tolist()  # no zeros below zero
    return Nearer((x, y, z), 2.0 ** -math.floor(math.log2(size)) if beyond else 1.0)


def size_of(box: F64) -> float:
    """Diagonal of a box (2, 3)."""
    return float(np.linalg.norm(box[1] - box[0]))


def distance_of(box: F64) -> float:
    """How far a box (2, 3) lies from the origin, in its sizes."""
    away = float(np.abs(box.mean(axis=0)).max())
    return away / size_of(box) if size_of(box) > 0 else (math.inf if away else 0.0)


def taken_nearer(recipe: Recipe, nearer: Nearer, files: Iterable[str]) -> Recipe:
    """The recipe with some files taken nearer, and with them all that lies in space: pockets, strokes, mends."""
    if nearer == Nearer():
        return recipe
    given = recipe.model_dump()
    for name in files:
        given["files"][name] = nearer.of(recipe.file(name)).model_dump()
    for owner in (given, *given["mends"]):
        _take_nearer(owner, nearer, recipe.reach.unit == "scene")
    _scale_reach(given["reach"], nearer.scale, recipe.reach.unit == "scene")
    return Recipe.model_validate(given)


def _take_nearer(owner: dict[str, Any], nearer: Nearer, in_scene_units: bool) -> None:
    for kind in BALLS:
        for ball in owner.get(kind, []):  # a mend has not all of them
            ball["centre"] = _place(ball["centre"], nearer)
            if kind != "pockets":
                ball["radius"] *= nearer.scale
    for pocket in owner["pockets"]:
        pocket["radius"] *= nearer.scale if in_scene_units else 1
    for stroke in owner["nudges"]:
        stroke["points"] = [_place(point, nearer) for point in stroke["points"]]
        stroke["radius"] *= nearer.scale
        stroke["amount"] *= nearer.scale if stroke["kind"] in ("out", "in") else 1
    for group in (*owner["levels"].values(), *owner["pockets"], *owner["patches"]):
        _scale_reach(group, nearer.scale, in_scene_units)
    fixes = owner["fixes"].values() if "fixes" in owner else [own["fixes"] for own in owner["files"].values()]
    for fix in (fix for own in fixes for fix in own):
        fix["near"] = _place(fix["near"], nearer) if fix["near"] else None


def _place(at: Place, nearer: Nearer) -> Place:
    x, y, z = ((a + by) * nearer.scale for a, by in zip(at, nearer.move, strict=True))
    return x, y, z


def _scale_reach(group: dict[str, Any], scale: float, in_scene_units: bool) -> None:
    for name in ("outward", "inward") if in_scene_units else ():
        if group[name] is not None:
            group[name] *= scale


def as_the_others(recipe: Recipe, name: str, box: Box, others: Mapping[str, Box]) -> Recipe:
    """The recipe with a file that came later taken as another one is, where only that brings it near the origin."""
    own = recipe.file(name)
    now = box_of([(own, box)])
    if now is None or own != FileSettings(role=own.role) or distance_of(now) <= FAR:
        return recipe
    for other in others:
        known = recipe.file(other)
        tried = own.model_copy(update={"move": known.move, "scale": known.scale})
        placed = box_of([(tried, box)])
        if placed is not None and distance_of(placed) <= FAR:
            return recipe.model_copy(update={"files": recipe.files | {name: tried}})
    return recipe
