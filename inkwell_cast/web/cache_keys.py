"""Keys of what is kept: they change with all that a result follows."""

import json
from hashlib import sha256
from typing import Any

from ..core.handoff.bake_on_disk import SIDES as SIDES
from ..core.settings.mends_overlay import mended
from ..core.settings.recipe import Recipe
from ..core.settings.staleness import CAGE_VIEW, LOW_VIEW, MESHES, settings_behind
from ..engine.messages import Drawn
from ..store.meshes import MeshRow

LIKENESS = "likeness"  # the key of the picture of angles to the sculpt, among those of a bake's maps
PARALLAX = "parallax"  # and that of what no map cures
DIFFERENCE = "difference"  # and what the page calls the difference of the first to that of the bake before
VIEWS = 6  # raised whenever what is drawn of the same meshes changes, so that older drawings are made anew


def _digest(*parts: Any) -> str:
    return sha256(json.dumps(parts).encode()).hexdigest()


def _copies(rows: list[MeshRow]) -> list[list[str]]:
    return [[r.file_name, r.copy] for r in rows]


def result_key(recipe: Recipe, rows: list[MeshRow], result: str) -> str:
    """A key of all that a result of `settings.staleness` follows: settings with their mends, and meshes."""
    return _digest(settings_behind(mended(recipe), result), _copies(rows))


def view_key(recipe: Recipe, rows: list[MeshRow], what: Drawn, names: tuple[str, ...]) -> str:
    """A key of all that a drawing depends on, so that an unchanged one is found again."""
    if what == "sculpt":
        settings = [
            mended(recipe).file(row.file_name).model_copy(update={"role": ""}).model_dump(mode="json") for row in rows
        ]
        return _digest(VIEWS, what, settings, [row.copy for row in rows], names)
    result = {"low": LOW_VIEW, "lit": MESHES}.get(what, CAGE_VIEW)
    return _digest(VIEWS, what, result_key(recipe, rows, result))


def meshes_key(rows: list[MeshRow]) -> str:
    """What a bake depends on besides its own settings: changes whenever a mesh does."""
    return _digest(_copies(rows))[:16]
