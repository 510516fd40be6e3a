"""Checks before a bake, one module each with `find(piece) -> Iterator[Finding]`; adding one is a file and a line."""

from collections.abc import Callable, Iterator
from functools import partial
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

Found = tuple[dict[str, list[Finding]], list[Mesh]]
OF_MESHES, OF_REACH = Slot[Found](), Slot[Found]()


class Check(Protocol):
    KEY: str
    TITLE: str  # FOLLOWS_REACH, if there is one, says that settings of the reach change what it finds

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


def findings_of(
    assembly: Assembly, warm: Warm, cancel: Callable[[], bool] = lambda: False, of_reach: bool = True
) -> list[Finding]:  # fmt: skip
    """The same for a piece that is put together, found once for its files and the settings that checks follow.

    Without what follows the reach if that is not wanted, which a bake tells better.
    """
    files, behind = list(assembly.files.values()), settings_behind(assembly.recipe, CHECKS)
    found = dict[str, list[Finding]]()
    for slot, reach in ((OF_MESHES, False), (OF_REACH, True))[: 2 if of_reach else 1]:
        followed = {name: value for name, value in behind.items() if reach or name != "reach"}
        modules = [m for m in REGISTRY.values() if getattr(m, "FOLLOWS_REACH", False) == reach]
        key = f"{followed} {[id(mesh) for mesh in files]}"
        if not found.get(invalid_numbers.KEY):  # nothing else can be computed with such values
            found |= warm.once(slot, key, partial(_found_in, assembly, files, modules, cancel))[0]
    findings = [finding for key in REGISTRY for finding in found.get(key, [])]
    return sorted(findings, key=lambda f: SEVERITIES.index(f.severity))


def _found_in(assembly: Assembly, files: list[Mesh], modules: list[Check], cancel: Callable[[], bool]) -> Found:
    """What some checks find, by their keys, and the files: as long as they are held their identities stay theirs."""
    piece, found = inspect(undivided(assembly)), dict[str, list[Finding]]()
    for module in modules:
        if cancel():
            raise Cancelled
        found[module.KEY] = [] if found.get(invalid_numbers.KEY) else list(module.find(piece))
    return found, files


__all__ = ["REGISTRY", "SEVERITIES", "Finding", "Remedy", "Severity", "check", "findings_of"]
