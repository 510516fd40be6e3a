"""Checks before a bake, one module each with `find(piece) -> Iterator[Finding]`; adding one is a file and a line."""

from collections.abc import Collection, Iterator
from functools import partial
from typing import Protocol

from ..base.errors import Cancelled
from ..base.progress import Cancel
from ..mesh.mesh import Mesh
from ..piece.assembly import assemble, undivided
from ..piece.piece import Assembly, BakeMeshes
from ..piece.scene_cache import Slot, Warm
from ..settings.recipe import Recipe
from ..settings.staleness import CHECKS, settings_behind
from . import (
    cage_meshes,
    copies_elsewhere,
    doubled_vertices,
    faceted_sculpt,
    far_from_origin,
    hard_edges,
    invalid_numbers,
    lacking_low,
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

Findings = tuple[list[Finding], list[Mesh]]


class Check(Protocol):
    KEY: str
    TITLE: str  # FOLLOWS_REACH, if there is one, says that settings of the reach change what it finds

    def find(self, piece: Inspected) -> Iterator[Finding]: ...


REGISTRY: dict[str, Check] = {
    module.KEY: module
    for module in (
        invalid_numbers,
        unpaired,
        missing_uvs,
        far_from_origin,
        place_and_scale,
        winding,
        cage_meshes,
        copies_elsewhere,
        straying_low,
        lacking_low,
        overlapping_islands,
        uvs_outside_tile,
        uv_area,
        hard_edges,
        faceted_sculpt,
        doubled_vertices,
        open_borders,
        non_manifold,
        not_triangulated,
        texel_density,
        uv_stretch,
        reading_notes,
    )
}
FINDINGS = {key: Slot[Findings]() for key in REGISTRY}


def check(
    recipe: Recipe, meshes: BakeMeshes, warm: Warm | None = None, cancel: Cancel = lambda: False
) -> list[Finding]:
    """Everything that is wrong with a piece before a ray is cast, the worst first.

    `cancel()` is asked between checks and a true answer raises Cancelled.
    """
    warm = warm or Warm()
    return findings_of(assemble(recipe, meshes, warm), warm, cancel)


def findings_of(
    assembly: Assembly, warm: Warm, cancel: Cancel = lambda: False, keys: Collection[str] | None = None
) -> list[Finding]:
    """What is wrong with a piece that is put together, by all checks or some, the worst first.

    Each check finds once for the piece's files and the settings that it follows.
    """
    files, behind = list(assembly.files.values()), settings_behind(assembly.recipe, CHECKS)
    inspected, found = list[Inspected](), list[Finding]()

    def find(module: Check) -> Findings:
        if cancel():
            raise Cancelled
        if not inspected:
            inspected.append(inspect(undivided(assembly)))
        return list(module.find(inspected[0])), files  # the files are held: their identities stay theirs

    for key, module in REGISTRY.items():
        if keys is None or key in keys or key == invalid_numbers.KEY:
            reach = getattr(module, "FOLLOWS_REACH", False)
            followed = {name: value for name, value in behind.items() if reach or name != "reach"}
            known = f"{followed} {[id(mesh) for mesh in files]}"
            found += warm.once(FINDINGS[key], known, partial(find, module))[0]
        if found and key == invalid_numbers.KEY:
            break  # nothing else can be computed with such values
    return sorted(found, key=lambda f: SEVERITIES.index(f.severity))


__all__ = ["REGISTRY", "SEVERITIES", "Finding", "Remedy", "Severity", "check", "findings_of"]
