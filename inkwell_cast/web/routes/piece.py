"""The page of a piece: its steps and settings."""

import json
import math
from collections.abc import Callable
from contextlib import suppress
from typing import Any, cast, get_args

from fastapi import APIRouter, Request
from pydantic import ValidationError
from starlette.datastructures import FormData
from starlette.exceptions import HTTPException
from starlette.responses import JSONResponse, Response

from ...core.bake.memory_estimate import needed
from ...core.base.setting import Unit
from ...core.mesh.fixes import box_of
from ...core.settings import editing
from ...core.settings.mends_overlay import mended
from ...core.settings.output import DEPTHS
from ...core.settings.pairing import Paired
from ...core.settings.reach_unit import REACH, with_reach_unit
from ...core.settings.recipe import Recipe, refusals
from ...core.settings.scopes import in_force, object_scope, pair_scope, scopes
from ...core.settings.staleness import CAGE_VIEW, LOW_VIEW, MESHES, stale_after
from ...core.settings.typed_numbers import length, number
from ...store.bakes import BakeRecord
from ...store.meshes import MeshRow
from ...store.pieces import Piece
from ..services.pieces import paired_of, sculpts_of
from ..services.settings import ShownState
from ..templating import STEPS, bake_facts, render, services_of, stale

router = APIRouter(prefix="/pieces/{piece_id}")
Extension = Callable[[Request, dict[str, Any]], dict[str, Any]]
_extensions: dict[str, Extension] = {}
MOST_POINTS = 60  # bakes whose likeness a small line shows


def extend(step: str) -> Callable[[Extension], Extension]:
    """Register what else the template of a step needs."""

    def register(extension: Extension) -> Extension:
        _extensions[step] = extension
        return extension

    return register


def context(request: Request, piece_id: int, step: str, bake_id: int | None = None) -> dict[str, Any]:
    """What the templates of a piece need. Raises 404 for one that is gone."""
    services = services_of(request)
    known = services.pieces.get(piece_id)
    if known is None or step not in STEPS:
        raise HTTPException(404, "This piece is not on the shelf.")
    piece, meshes, bakes = known
    newest, count = services.bakes.newest(piece_id)
    shown = services.bakes.get(bake_id) if bake_id else None
    if shown is None or shown.piece_id != piece_id or shown.state != "done":
        shown = services.bakes.get(newest.id) if newest else None
    paired = paired_of(piece, meshes)
    findings = services.measures.checked(piece, meshes)
    sides = boxes(piece.recipe, paired, meshes)
    diagonal = math.hypot(*sides["low"]["size"]) if "low" in sides else 0.0
    last = next((bake for bake in bakes if not bake.live), None)
    values: dict[str, Any] = {
        "piece": piece,
        "meshes": meshes,
        "bakes": bakes,
        "done_count": count,
        "shown": shown,
        "step": step,
        "paired": paired,
        "diagonal": diagonal,
        "boxes": sides,
        "last": last,
        "errors": {},
        "errors_in": set(),
        "given": {},
        "said": [],
        "findings": findings,
        "blocking": [f for f in findings or [] if f.severity == "blocking"],
        "ready": bool(paired.pairs),
        "pockets_drawn": [
            {"centre": p.centre, "radius": p.radius * piece.recipe.reach.scale(diagonal)} for p in piece.recipe.pockets
        ],
        "changes": services.settings.steps(piece_id),
        "project": services.projects.of(piece, meshes),
        "stale": stale(shown, piece.recipe, meshes) if shown else "",
        "disk_use": services.bakes.disk_use,
        "need": needed(piece.recipe, sheet_sizes(piece.recipe, shown)).words,
        "peek": services.bakes.peek_at(last.id) if last and last.open else "",
        "left": services.bakes.seconds_left(last.id) if last and last.open else None,
        "facts": facts_of(request, shown, piece, meshes) if shown else None,
        **scope_context(piece.recipe, paired, request.query_params.get("scope", "piece")),
    }
    return values | _extensions[step](request, values) if step in _extensions else values


def facts_of(request: Request, row: BakeRecord, piece: Piece, rows: list[MeshRow]) -> dict[str, Any]:
    """What the views need to know of a finished bake."""
    return bake_facts(row, piece.recipe, rows, services_of(request).bakes.before(row))


def sheet_sizes(recipe: Recipe, shown: BakeRecord | None) -> list[tuple[int, int]]:
    """Widths and heights of a piece's sheets, by the names that the last bake had where there are several."""
    names = [sheet.name for sheet in shown.manifest.sheets] if shown and shown.manifest else []
    return [recipe.size_of(name) for name in names] if len(names) > 1 else [recipe.size_of("")]


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


def scope_context(recipe: Recipe, paired: Paired, scope: str) -> dict[str, Any]:
    """Whose settings a panel shows: the scope, those there are, and every value with where it comes from."""
    chains = {"piece": ["piece"]}
    for pair in paired.pairs:
        chains[pair_scope(pair.name)] = scopes(pair.name)
        for part in pair.lows:
            chains[object_scope(part.key)] = scopes(pair.name, part.key)
    scope = scope if scope in chains else "piece"
    return {"scope": scope, "chains": chains, "values": in_force(recipe, chains[scope])}


@extend("review")
def review_context(request: Request, values: dict[str, Any]) -> dict[str, Any]:
    """The bake before the one shown, the mean likeness of the last ones, oldest first, and limits that it passes."""
    services, shown = services_of(request), values["shown"]
    known = services.pieces.get(values["piece"].id, MOST_POINTS)
    done = [row.summary for row in reversed(known[2] if known else []) if row.state == "done"]
    limits = values["piece"].recipe.limits.by_name
    before = services.bakes.before(shown) if shown else None
    return {
        "lods": services.lods.of(values["piece"].id),
        "beyond": shown.manifest.beyond_of(limits) if shown and shown.manifest else [],
        "before": services.bakes.get(before.id) if before else None,
        "likeness_history": [s.likeness for s in done if s.likeness is not None and not s.brought],
        "highs": left_out_choices(values["paired"]),
    }


def left_out_choices(paired: Paired) -> list[str]:
    """The highs that can be left out in a place: never the only one that a pair has."""
    return [part.key for pair in paired.pairs if len(pair.giving) > 1 for part in pair.giving]


@router.get("")
def page(request: Request, piece_id: int, step: str = "") -> Response:
    known = services_of(request).pieces.get(piece_id)
    first = step or ("review" if known and services_of(request).bakes.newest(piece_id)[0] else "meshes")
    return render(request, "piece.html", **context(request, piece_id, first))


@router.get("/panel/{step}")
async def panel(request: Request, piece_id: int, step: str, bake: int | None = None) -> Response:
    return render(request, "panel.html", **context(request, piece_id, step, bake))


def change(request: Request, piece_id: int, words: str, edit: Callable[[Recipe], Recipe], adds: bool = False) -> None:
    """Change a piece's settings, joined with what the page of the request shows; what there is to say of it is kept."""
    step, tab = request.headers.get("x-shown-step", ""), request.headers.get("x-tab", "")
    shown = ShownState(int(step), tab) if step.isdecimal() and len(step) < 10 else None
    request.state.said = [*said_of(request), *services_of(request).settings.change(piece_id, words, edit, shown, adds)]


def said_of(request: Request) -> list[str]:
    """What changes made for a request left to say."""
    said: list[str] = getattr(request.state, "said", [])
    return said


def changed(request: Request, piece_id: int, step: str, *events: str, said: list[str] | None = None) -> Response:
    """The panel of a step after a change of settings, and what the page must draw anew."""
    values = context(request, piece_id, step) | {"said": [*said_of(request), *(said or [])]}
    response = render(request, "panel.html", **values)
    happened: dict[str, Any] = {"settings-changed": {"facts": values["facts"]}}
    response.headers["HX-Trigger"] = json.dumps(happened | {event: {} for event in events})
    return response


@router.post("/settings/{step}")
async def settings(request: Request, piece_id: int, step: str) -> Response:
    """Take the fields of a step's form; what is out of range is shown beside its field and not kept."""
    values = context(request, piece_id, step)
    form = await request.form()
    before, scope = values["piece"].recipe, values["scope"]

    form = _with_lengths(form, before, values["diagonal"])

    def edit(recipe: Recipe) -> Recipe:
        if scope == "piece":
            return _with_fields(*_in_unit_of(form, recipe, values["diagonal"]))
        sent = {n.partition(".")[2]: _plain(str(form[n])) for n in form if n.startswith("level.")}
        now = in_force(recipe, values["chains"][scope])  # fields left alone go on being inherited
        level = {f: v for f, v in sent.items() if f in now and (v != now[f].value or now[f].scope == scope)}
        return editing.set_level(_with_fields(recipe, form), scope, level)

    try:
        change(request, piece_id, step.capitalize(), edit)
    except ValidationError as refused:
        values["errors"] = refusals(refused)
        values["errors_in"] = {name.partition(".")[0] for name in values["errors"]}
        values["given"] = {name: form[name] for name in form}
        return render(request, "panel.html", **values)
    after = services_of(request).pieces.wanted(piece_id)[0].recipe
    return changed(request, piece_id, step, *redraws(before, after))


def _with_lengths(form: FormData, recipe: Recipe, diagonal: float) -> FormData:
    """A form whose reaches may name a unit of their own, in that of the piece; what cannot be read stays as typed."""
    chosen = str(form.get("reach.unit", recipe.reach.unit))
    unit = cast(Unit, chosen) if chosen in get_args(Unit) else recipe.reach.unit
    fields = []
    for name, text in form.multi_items():
        if name.partition(".")[2] in REACH and name.partition(".")[0] in ("reach", "level"):
            with suppress(ValueError):
                text = f"{length(str(text), unit, diagonal, recipe.world.unit):g}" if not _is_plain(text) else text
        fields.append((name, text))
    return FormData(fields)


def _is_plain(text: Any) -> bool:
    return not isinstance(_plain(str(text)), str)


def _in_unit_of(form: FormData, recipe: Recipe, diagonal: float) -> tuple[Recipe, FormData]:
    """The recipe in the unit that a form chooses, and what else the form changes.

    Lengths that are sent as they stood are converted like all others; one that was typed anew is in the new unit.
    """
    unit = str(form.get("reach.unit", recipe.reach.unit))
    if unit not in get_args(Unit) or unit == recipe.reach.unit:
        return recipe, form
    stood = {f"reach.{name}": getattr(recipe.reach, name) for name in REACH}
    changes = [
        (name, text) for name, text in form.multi_items() if name not in stood or _plain(str(text)) != stood[name]
    ]
    return with_reach_unit(recipe, cast(Unit, unit), diagonal), FormData(changes)


def redraws(before: Recipe, after: Recipe) -> list[str]:
    """What the views must fetch again after a change."""
    stale = stale_after(mended(before), mended(after))
    events = {MESHES: "meshes-changed", LOW_VIEW: "low-changed", CAGE_VIEW: "cage-changed"}
    return [event for result, event in events.items() if result in stale][:1]


def _with_fields(recipe: Recipe, form: Any) -> Recipe:
    """The recipe with the fields "group.field" of a form, and sheet sizes "size.NAME.width"."""
    given = recipe.model_dump()
    for name in form:
        group, _, field = name.partition(".")
        raw = form.getlist(name)
        if group == "size":
            sheet, _, side = field.rpartition(".")
            width, height = recipe.size_of(sheet)
            given["sizes"].setdefault(sheet, {"width": width, "height": height})[side] = _plain(str(raw[-1]))
        elif group == "own":  # format and depth of one map
            given["output"]["own"].pop(field, None)
            kind, _, depth = str(raw[-1]).partition("-")
            if kind:
                given["output"]["own"][field] = {"format": kind, "depth": _plain(depth)}
        elif group in given and isinstance(given[group], dict) and field in given[group]:
            now = given[group][field]
            given[group][field] = [v for v in raw if v] if isinstance(now, list) else _typed(str(raw[-1]), now)
    depths = DEPTHS.get(given["output"]["format"], (8,))
    if given["output"]["format"] != recipe.output.format and given["output"]["depth"] not in depths:
        given["output"]["depth"] = depths[0]  # another format's fields say which depths it has
    common = {side: getattr(recipe.sheet, side) for side in ("width", "height")}
    given["sizes"] = {sheet: size for sheet, size in given["sizes"].items() if size != common}
    return Recipe.model_validate(given)


def _typed(text: str, now: Any) -> Any:
    """A form's text as what the field holds now: words stay words, also where they look like a number."""
    return text if isinstance(now, str) and not text.strip().isdigit() else _plain(text)


def _plain(text: str) -> Any:
    """A form's text as the number it may be; the recipe judges it."""
    for kind in (int, float):
        try:
            return kind(text.strip())
        except ValueError:
            continue
    with suppress(ValueError):
        return number(text)
    return text.strip()


@router.post("/inherit/{step}")
async def inherit(request: Request, piece_id: int, step: str, field: str) -> Response:
    """Let a setting of the scope be inherited again."""
    before = context(request, piece_id, step)
    words = f"Inherit {field}"
    change(request, piece_id, words, lambda r: editing.set_level(r, before["scope"], {field: None}))
    return changed(request, piece_id, step, "low-changed")


@router.post("/id-color")
async def id_color(request: Request, piece_id: int) -> Response:
    """A colour "#rrggbb" for a name of the ID map; an empty one goes back to the colour that follows from the name."""
    context(request, piece_id, "maps")
    form = await request.form()
    name, color = str(form.get("name", "")), str(form.get("color", ""))
    change(request, piece_id, "Colour", lambda r: editing.set_id_color(r, name, color))
    return changed(request, piece_id, "maps")


@router.post("/step-back")
async def step_back(request: Request, piece_id: int, step: str, by: int = -1) -> Response:
    """Undo (by below 0) or redo so many changes of settings."""
    before = context(request, piece_id, step)["piece"].recipe
    services_of(request).settings.step_back(piece_id, by)
    after = context(request, piece_id, step)["piece"].recipe
    return changed(request, piece_id, step, *redraws(before, after))


@router.get("/state")
def state(request: Request, piece_id: int) -> Response:
    """What the views draw: files with sculpts in them, and the newest finished bake."""
    values = context(request, piece_id, "meshes")
    sculpts = [m for m in values["meshes"] if sculpts_of(m, values["paired"])]
    return JSONResponse(
        {
            "sculpts": [{"id": m.id, "name": m.file_name} for m in sculpts],
            "meshes": len(values["meshes"]),
            "facts": values["facts"],
            "step": values["piece"].step,
            "ready": values["ready"] and not values["blocking"],
        }
    )
