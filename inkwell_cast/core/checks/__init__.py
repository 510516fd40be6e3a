"""Checks before a bake, one module each with `find(piece) -> Iterator[Finding]`; adding one is a file and a line."""

from collections.abc import Callable, Iterator
from typing import Protocol

from ..assembly import Assembly, BakeMeshes, Warm, assemble, undivided
from ..errors import Cancelled
from ..recipe import RAYLESS, Recipe
from . import (
    borders,
    cages,
    density,
    doubles,
    faceted,
    hard_edges,
    non_manifold,
    numbers,
    overlaps,
    pairs,
    place,
    polygons,
    reading,
    stray,
    stretch,
    tiles,
    uv_area,
    uvs,
    winding,
)
from .finding import SEVERITIES, Finding, Inspected, Remedy, Severity, inspect

UNHEEDED = RAYLESS | {"pockets", "nudges", "omissions", "creases", "straight_picture"}  # settings that no check heeds


class Check(Protocol):
    KEY: str
    TITLE: str

    def find(self, piece: Inspected) -> Iterator[Finding]: ...


REGISTRY: dict[str, Check] = {
    module.KEY: module
    for module in (
        numbers, pairs, uvs, place, winding, cages, stray, overlaps, tiles, uv_area, hard_edges, faceted, doubles,
        borders, non_manifold, polygons, density, stretch, reading,
    )
}  # fmt: skip


def check(
    recipe: Recipe, meshes: BakeMeshes, warm: Warm | None = None, cancel: Callable[[], bool] = lambda: False
) -> list[Finding]:
    """Everything that is wrong with a piece before a ray is cast, the worst first.

    `cancel()` is asked between checks and a true answer raises Cancelled.
    """
    warm = warm or Warm()
    return findings_of(assemble(recipe, meshes, warm), warm, cancel)


def findings_of(assembly: Assembly, warm: Warm, cancel: Callable[[], bool] = lambda: False) -> list[Finding]:
    """The same for a piece that is put together, found once for its files and the settings that checks heed."""
    given = assembly.recipe.model_dump(mode="json", exclude=UNHEEDED)
    sheet, files = given.pop("sheet"), list(assembly.files.values())
    key = f"{given} {sheet['channel']} {sheet['split']} {[id(mesh) for mesh in files]}"
    return warm.once("findings", key, lambda: (_found_in(assembly, cancel), files))[0]  # files held: ids stay theirs


def _found_in(assembly: Assembly, cancel: Callable[[], bool]) -> list[Finding]:
    piece = inspect(undivided(assembly))
    found = [*numbers.find(piece)]
    if not found:  # nothing else can be computed with such values
        for module in REGISTRY.values():
            if cancel():
                raise Cancelled
            found += module.find(piece)
    return sorted(found, key=lambda f: SEVERITIES.index(f.severity))


__all__ = ["REGISTRY", "SEVERITIES", "Finding", "Remedy", "Severity", "check", "findings_of"]
