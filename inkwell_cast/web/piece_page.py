"""What the page of a piece shows, put together from the store and what the engine has found."""

import math
from collections.abc import Callable
from dataclasses import dataclass, field, fields
from typing import Any

from fastapi import Request
from starlette.exceptions import HTTPException
from starlette.responses import Response

from ..core.bake.memory_estimate import ROOM, needed
from ..core.checks import Finding
from ..core.mesh.fixes import box_of
from ..core.settings.pairing import Paired
from ..core.settings.reach import Reach
from ..core.settings.recipe import Recipe
from ..core.settings.scopes import Value, each_of, in_force_of_all, object_scope, pair_scope, scopes, together
from ..store.bakes import BakeRecord, BakeRow
from ..store.meshes import MeshRow
from ..store.pieces import StoredPiece
from .services.pieces import AS_KNOWN, paired_of
from .services.projects import ProjectFacts
from .services.settings import BY_ITSELF, MEASURED
from .templating import STEPS, bake_facts, render, services_of, stale

Extension = Callable[[Request, "PiecePage"], dict[str, Any]]
_extensions: dict[str, Extension] = {}


@dataclass(slots=True)
class PiecePage:
    """A piece as one step of its page shows it; what the templates read, by the names that they read it under.

    shown is the bake in view, last the newest one that is no live proof; boxes are sizes and middles of lows and highs,
    diagonal that of the lows, scene units. scope is whose settings are shown, chains those there are, values each
    setting in force with where it comes from. errors and given are refused fields and what was typed there; said is to
    be told. more is what the step's own template needs besides.
    """

    request: Request
    step: str
    piece: StoredPiece
    meshes: list[MeshRow]
    bakes: list[BakeRow]
    done_count: int
    shown: BakeRecord | None
    last: BakeRow | None
    paired: Paired
    boxes: dict[str, dict[str, list[float]]]
    findings: list[Finding] | None
    changes: Any
    project: ProjectFacts | None
    need: str
    disk_use: Any
    peek: str
    left: float | None
    facts: dict[str, Any] | None
    scope: str
    chains: dict[str, list[str]]
    values: dict[str, Value]
    errors: dict[str, str] = field(default_factory=dict)
    given: dict[str, Any] = field(default_factory=dict)
    said: list[str] = field(default_factory=list)
    more: dict[str, Any] = field(default_factory=dict)

    @property
    def recipe(self) -> Recipe:
        return self.piece.recipe

    @property
    def diagonal(self) -> float:
        return math.hypot(*self.boxes["low"]["size"]) if "low" in self.boxes else 0.0

    @property
    def ready(self) -> bool:
        """Whether there is a pair to bake."""
        return bool(self.paired.pairs)

    @property
    def blocking(self) -> list[Finding]:
        return [finding for finding in self.findings or [] if finding.severity == "blocking"]

    @property
    def cage_meshes(self) -> list[str]:
        """The cage meshes that say how far out rays start in all that the scope holds; none where a reach does."""
        spoken = set(each_of(self.scope))
        pairs = [
            pair for pair in self.paired.pairs if any(spoken & set(scopes(pair.name, part.key)) for part in pair.lows)
        ]
        return [pair.cages[0].name for pair in pairs] if pairs and all(pair.cages for pair in pairs) else []

    @property
    def unmeasured(self) -> bool:
        """Whether the reach is what any new piece has, and was never measured."""
        set_below = any(level.outward is not None or level.inward is not None for level in self.recipe.levels.values())
        told = any(words.startswith(MEASURED) for _, words in self.changes)
        return self.ready and not self.cage_meshes and self.recipe.reach == Reach() and not set_below and not told

    @property
    def measured_by_itself(self) -> bool:
        """Whether that was the last change of the settings."""
        return any(n == self.piece.step and words.startswith(BY_ITSELF) for n, words in self.changes)

    @property
    def scale(self) -> float:
        """Scene units in one of the unit of the piece's reach."""
        return self.recipe.reach.scale(self.diagonal)

    def render(self, template: str, **more: Any) -> Response:
        """A template with all of this, and more."""
        shown = {each.name: getattr(self, each.name) for each in fields(self) if each.name not in ("request", "more")}
        shown |= {
            "diagonal": self.diagonal,
            "ready": self.ready,
            "blocking": self.blocking,
            "cage_meshes": self.cage_meshes,
            "measured_by_itself": self.measured_by_itself,
            "errors_in": {name.partition(".")[0] for name in self.errors},
            "stale": stale(self.shown, self.recipe, self.meshes) if self.shown else "",
        }
        response = render(self.request, template, **(shown | self.more | more))
        response.headers["X-As-Of"] = f"{self.step} {self.piece.read}"  # a page tells by it which of two is older
        return response


def extend(step: str) -> Callable[[Extension], Extension]:
    """Register what else the template of a step needs."""

    def register(extension: Extension) -> Extension:
        _extensions[step] = extension
        return extension

    return register


def known_piece(request: Request, piece_id: int) -> None:
    """What every address of a piece depends on: that it is on the shelf, and can be used. Raises 404 and 409."""
    known = services_of(request).pieces.get(piece_id)
    if known is None:
        raise HTTPException(404, "This piece is not on the shelf.")
    if known[0].problem:
        raise HTTPException(409, f"{known[0].name}: {known[0].problem} {AS_KNOWN}")


def page_of(request: Request, piece_id: int, step: str, bake_id: int | None = None) -> PiecePage:
    """A step of a piece's page, with a bake of its own or the newest. Raises 404 for what is not there."""
    services = services_of(request)
    known = services.pieces.get(piece_id)
    if known is None or step not in STEPS:
        raise HTTPException(404, "This piece is not on the shelf.")
    piece, meshes, bakes = known
    newest, count = services.bakes.newest(piece_id)
    shown = services.bakes.get(bake_id) if bake_id else None
    if shown is None or shown.piece_id != piece_id or not shown.has_maps:
        shown = services.bakes.get(newest.id) if newest else None
    paired = paired_of(piece, meshes)
    last = next((bake for bake in bakes if not bake.live), None)
    at_work = last if last and last.open else None
    scope, chains = _scope_of(paired, request.query_params.get("scope", "piece"))
    page = PiecePage(
        request=request,
        step=step,
        piece=piece,
        meshes=meshes,
        bakes=bakes,
        done_count=count,
        shown=shown,
        last=last,
        paired=paired,
        boxes=boxes(piece.recipe, paired, meshes),
        findings=services.measures.checked(piece, meshes),
        changes=services.settings.steps(piece_id),
        project=services.projects.of(piece, meshes),
        need=needed(piece.recipe, sheet_sizes(piece.recipe, shown), _covered(shown)).words,
        disk_use=services.bakes.disk_use,
        peek=services.bakes.peek_at(at_work.id) if at_work else "",
        left=services.bakes.seconds_left(at_work.id) if at_work else None,
        facts=facts_of(request, shown, piece, meshes) if shown else None,
        scope=scope,
        chains=chains,
        values=in_force_of_all(piece.recipe, [chains[each] for each in each_of(scope)]),
    )
    if step in _extensions:
        page.more = _extensions[step](request, page)
    return page


def facts_of(request: Request, row: BakeRecord, piece: StoredPiece, rows: list[MeshRow]) -> dict[str, Any]:
    """What the views need to know of a finished bake, and when the settings were read that `stale` was found by."""
    return bake_facts(row, piece.recipe, rows, services_of(request).bakes.before(row)) | {"read": piece.read}


def sheet_sizes(recipe: Recipe, shown: BakeRecord | None) -> list[tuple[int, int]]:
    """Widths and heights of a piece's sheets, by the names that the last bake had where there are several."""
    names = [sheet.name for sheet in shown.manifest.sheets] if shown and shown.manifest else []
    return [recipe.size_of(name) for name in names] if len(names) > 1 else [recipe.size_of("")]


def _covered(shown: BakeRecord | None) -> float:
    """The largest share that is covered of a sheet, with room for more; 1 where none was baked."""
    sheets = shown.manifest.sheets if shown and shown.manifest else []
    return min(1.0, ROOM * max((sheet.coverage for sheet in sheets), default=1.0))


def boxes(recipe: Recipe, paired: Paired, meshes: list[MeshRow]) -> dict[str, dict[str, list[float]]]:
    """Size and middle of the paired lows and of their highs, scene units, from what is known of the files."""
    ticked = {}
    for word, parts in (
        ("low", [part.key for pair in paired.pairs for part in pair.lows]),
        ("high", [part.key for pair in paired.pairs for part in pair.giving]),
    ):
        keys = set(parts)
        given = [
            (recipe.file(row.file_name), p.bounds)
            for row in meshes
            for p in row.facts.parts
            if f"{row.file_name}/{p.name}" in keys
        ]
        box = box_of(given)
        if box is not None:
            ticked[word] = {"size": (box[1] - box[0]).tolist(), "middle": (box.mean(axis=0)).tolist()}
    return ticked


def _scope_of(paired: Paired, scope: str) -> tuple[str, dict[str, list[str]]]:
    """Whose settings a panel shows, the piece's where there is no such scope, and the chains of all that there are."""
    chains = {"piece": ["piece"]}
    for pair in paired.pairs:
        chains[pair_scope(pair.name)] = scopes(pair.name)
        for part in pair.lows:
            chains[object_scope(part.key)] = scopes(pair.name, part.key)
    spoken = [each for each in dict.fromkeys(each_of(scope)) if each in chains and each != "piece"]
    return together(spoken or ["piece"]), chains
