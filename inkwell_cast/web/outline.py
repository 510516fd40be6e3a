"""What is known of a piece without opening its files: pairs, what is drawn as sculpt, keys of what depends on what."""

import json
from hashlib import sha256
from typing import Any

from ..core.base.errors import InputProblem
from ..core.settings import editing
from ..core.settings.mends_overlay import mended
from ..core.settings.pairing import Paired, Part, pair_up
from ..core.settings.reach import Reach
from ..core.settings.recipe import Recipe
from ..core.settings.staleness import CAGE_VIEW, LOW_VIEW, settings_behind
from ..engine.messages import Drawn
from ..store.meshes import MeshRow
from ..store.pieces import Piece

LIKENESS = "likeness"  # the key of the picture of angles to the sculpt, among those of a bake's maps
VIEWS = 5  # raised whenever what is drawn of the same meshes changes, so that older drawings are made anew


def refuse_half_a_piece(name: str, paired: Paired) -> None:
    roles = {role for pair in paired.pairs for role, _ in pair.members} | {a.role for a in paired.alone}
    named = name or "The piece"
    if not roles & {"low", "self"}:
        raise InputProblem(named, "No part is a low.", "Add the mesh to bake onto, or mark one of the files as low.")
    if not roles & {"high", "float", "self"}:
        raise InputProblem(
            named, "No part is a high.", "Add the sculpt it receives from, or mark one of the files as high."
        )


def paired_of(piece: Piece, rows: list[MeshRow]) -> Paired:
    """The pairs of a piece, from what is known of its files without opening them."""
    parts = [Part(row.file_name, part.name) for row in rows for part in row.facts.parts]
    recipe = mended(piece.recipe)
    return pair_up(parts, recipe.pairing, recipe.files)


def sculpts_of(row: MeshRow, paired: Paired) -> tuple[str, ...]:
    """The objects of a file that are drawn as sculpt: all that are no low and no cage."""
    members = [(role, part) for pair in paired.pairs for role, part in pair.members]
    members += [(a.role, a.part) for a in paired.alone]
    other = {part.key for role, part in members if role in ("low", "cage")}
    return tuple(p.name for p in row.facts.parts if Part(row.file_name, p.name).key not in other)


def with_reach(recipe: Recipe, scope: str, reach: dict[str, float]) -> Recipe:
    """The recipe with an outward and inward reach, in the unit of the piece's, at a scope."""
    if not reach:
        return recipe
    if scope == "piece":
        own = Reach.model_validate(recipe.reach.model_dump() | reach)
        return recipe.model_copy(update={"reach": own})
    return editing.set_level(recipe, scope, reach)


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
        own = [
            mended(recipe).file(row.file_name).model_copy(update={"role": ""}).model_dump(mode="json") for row in rows
        ]
        return _digest(VIEWS, what, own, [row.copy for row in rows], names)
    result = LOW_VIEW if what == "low" else CAGE_VIEW
    return _digest(VIEWS, what, result_key(recipe, rows, result))


def meshes_key(rows: list[MeshRow]) -> str:
    """What a bake depends on besides its own settings: changes whenever a mesh does."""
    return _digest(_copies(rows))[:16]
