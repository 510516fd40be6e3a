"""Checks before a bake, one module each with `find(piece) -> Iterator[Finding]`; adding one is a file and a line."""

from collections.abc import Callable, Iterator
from typing import Protocol

from ..base.errors import Cancelled
from ..mesh.mesh import Mesh
from ..piece.assembly import assemble, undivided
from ..piece.piece import Assembly, BakeMeshes
from ..piece.scene_cache import Slot, Warm
from ..settings.recipe import Recipe
from ..settings.staleness import CHECKS, settings_behind
from . import (
    cage_meshes,
    doubled_vertices,
    faceted_sculpt,
    hard_edges,
    invalid_numbers,
    missing_uvs,
    non_manifold,
    not_triangulated,
    open_borders,
    overlapping_islands,
    place_and_scale,
    reading_notes,
    straying_low,
    texel_density,
    unpaired,
    uv_area,
    uv_stretch,
    uvs_outside_tile,
    winding,
)
from .finding import SEVERITIES, Finding, Inspected, Remedy, Severity, inspect

FINDINGS = Slot[tuple[list[Finding], list[Mesh]]]()


class Check(Protocol):
    KEY: str
    TITLE: str

    def find(self, piece: Inspected) -> Iterator[Finding]: ...


REGISTRY: dict[str, Check] = {
    module.KEY: module
    for module in (
        invalid_numbers, unpaired, missing_uvs, place_and_scale, winding, cage_meshes, straying_low, overlapping_islands, uvs_outside_tile, uv_area, hard_edges, faceted_sculpt, doubled_vertices,
        open_borders, non_manifold, not_triangulated, texel_density, uv_stretch, reading_notes,
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
    """The same for a piece that is put together, found once for its files and the settings that checks follow."""
    files = list(assembly.files.values())
    key = f"{settings_behind(assembly.recipe, CHECKS)} {[id(mesh) for mesh in files]}"
    return warm.once(FINDINGS, key, lambda: (_found_in(assembly, cancel), files))[0]  # files held: ids stay theirs


def _found_in(assembly: Assembly, cancel: Callable[[], bool]) -> list[Finding]:
    piece = inspect(undivided(assembly))
    findings = [*invalid_numbers.find(piece)]
    if not findings:  # nothing else can be computed with such values
        for module in REGISTRY.values():
            if cancel():
                raise Cancelled
            findings += module.find(piece)
    return sorted(findings, key=lambda f: SEVERITIES.index(f.severity))


__all__ = ["REGISTRY", "SEVERITIES", "Finding", "Remedy", "Severity", "check", "findings_of"]
