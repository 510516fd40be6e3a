"""The page of a piece: its steps and settings."""

import json
from collections.abc import Callable
from contextlib import suppress
from typing import Any, cast, get_args

from fastapi import APIRouter, Depends, Form, Request
from pydantic import BaseModel, ValidationError
from starlette.datastructures import FormData
from starlette.exceptions import HTTPException
from starlette.responses import JSONResponse, Response

from ...core.base.setting import Unit
from ...core.settings import editing
from ...core.settings.mends_overlay import mended
from ...core.settings.output import DEPTHS
from ...core.settings.pairing import Paired
from ...core.settings.reach_unit import REACH, with_reach_unit
from ...core.settings.recipe import Recipe, refusals
from ...core.settings.scopes import FIELDS, Value, each_of, in_force_of_all
from ...core.settings.staleness import CAGE_VIEW, LOW_VIEW, MESHES, stale_after
from ...core.settings.typed_numbers import length, number
from ..piece_page import PiecePage, extend, known_piece, page_of
from ..services.pieces import sculpts_of
from ..services.settings import ShownState
from ..templating import SentForm, services_of

router = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])
MOST_POINTS = 60  # bakes whose likeness a small line shows


@extend("review")
def review_context(request: Request, page: PiecePage) -> dict[str, Any]:
    """The bake before the one shown, the mean likeness of the last ones, oldest first, and limits that it passes."""
    services, shown = services_of(request), page.shown
    known = services.pieces.get(page.piece.id, MOST_POINTS)
    done = [row.summary for row in reversed(known[2] if known else []) if row.state == "done"]
    limits = page.piece.recipe.limits.by_name
    before = services.bakes.before(shown) if shown else None
    return {
        "lods": services.lods.of(page.piece.id),
        "beyond": shown.manifest.beyond_of(limits) if shown and shown.manifest else [],
        "before": services.bakes.get(before.id) if before else None,
        "likeness_history": [s.likeness for s in done if s.likeness is not None and not s.brought],
        "highs": left_out_choices(page.paired),
    }


def left_out_choices(paired: Paired) -> list[str]:
    """The highs that can be left out in a place: never the only one that a pair has."""
    return [part.key for pair in paired.pairs if len(pair.giving) > 1 for part in pair.giving]


@router.get("")
def page(request: Request, piece_id: int, step: str = "") -> Response:
    known = services_of(request).pieces.get(piece_id)
    first = step or ("review" if known and services_of(request).bakes.newest(piece_id)[0] else "meshes")
    return page_of(request, piece_id, first).render("piece.html")


@router.get("/panel/{step}")
def panel(request: Request, piece_id: int, step: str, bake: int | None = None) -> Response:
    return page_of(request, piece_id, step, bake).render("panel.html")


def change(request: Request, piece_id: int, words: str, edit: Callable[[Recipe], Recipe], adds: bool = False) -> None:
    """Change a piece's settings, joined with what the page of the request shows; what there is to say of it is kept."""
    step, tab, turn = (request.headers.get(name, "") for name in ("x-shown-step", "x-tab", "x-turn"))
    at = _count(step)
    shown = None if at is None else ShownState(at, tab, _count(turn) or 0)
    request.state.said = [*said_of(request), *services_of(request).settings.change(piece_id, words, edit, shown, adds)]


def _count(text: str) -> int | None:
    return int(text) if text.isdecimal() and len(text) < 10 else None


def said_of(request: Request) -> list[str]:
    """What changes made for a request left to say."""
    said: list[str] = getattr(request.state, "said", [])
    return said


def changed(request: Request, piece_id: int, step: str, *events: str, said: list[str] | None = None) -> Response:
    """The panel of a step after a change of settings, and what the page must draw anew."""
    page = page_of(request, piece_id, step)
    response = page.render("panel.html", said=[*said_of(request), *(said or [])])
    happened: dict[str, Any] = {"settings-changed": {"facts": page.facts}}
    response.headers["HX-Trigger"] = json.dumps(happened | {event: {} for event in events})
    return response


@router.post("/settings/{step}")
def settings(request: Request, piece_id: int, step: str, form: SentForm) -> Response:
    """Take the fields of a step's form; what is out of range is shown beside its field and not kept."""
    page = page_of(request, piece_id, step)
    before, scope = page.piece.recipe, page.scope

    form = _with_lengths(form, before, page.diagonal)

    def edit(recipe: Recipe) -> Recipe:
        if scope == "piece":
            return _with_fields(*_in_unit_of(form, recipe, page.diagonal))
        sent = {n.partition(".")[2]: _plain(str(form[n])) for n in form if n.startswith("level.")}
        now = in_force_of_all(recipe, [page.chains[each] for each in each_of(scope)])
        level = {f: v for f, v in sent.items() if f in now and _is_set(v, now[f], scope)}
        return editing.set_scope(_with_fields(recipe, form), scope, level)

    try:
        change(request, piece_id, step.capitalize(), edit)
    except ValidationError as refused:
        page.errors = refusals(refused)
        page.given = {name: form[name] for name in form}
        return page.render("panel.html")
    after = services_of(request).pieces.wanted(piece_id)[0].recipe
    return changed(request, piece_id, step, *redraws(before, after))


def _is_set(sent: Any, now: Value, scope: str) -> bool:
    """Whether a form sets this: fields left alone go on being inherited, or being what each of several has."""
    if now.differs:
        return sent != ""
    return bool(sent != now.value or now.scope == scope)


def _with_lengths(form: FormData, recipe: Recipe, diagonal: float) -> FormData:
    """A form whose lengths may name a unit of their own, in that of their field; what cannot be read stays as typed."""
    fields = []
    for name, text in form.multi_items():
        unit = _unit_of(name, recipe, form)
        if unit and not _is_plain(text):
            with suppress(ValueError):
                text = f"{length(str(text), unit, diagonal, recipe.world.unit):g}"
        fields.append((name, text))
    return FormData(fields)


def _unit_of(name: str, recipe: Recipe, form: FormData) -> Unit | None:
    """The unit that a field of a form is in, which the same form may choose; None for what is no length."""
    group, _, field = name.partition(".")
    if group == "level":
        group = "reach" if field in REACH else ""
    model = type(getattr(recipe, group, None))
    known = model.model_fields.get(field) if issubclass(model, BaseModel) else None
    extra = known.json_schema_extra if known else None
    kind = extra.get("unit") if isinstance(extra, dict) else None
    of = {"reach": "reach.unit", "margin": "reach.margin_unit", "unit": f"{group}.unit"}.get(str(kind))
    if of is None:
        return None
    holder, _, attribute = of.partition(".")
    chosen = str(form.get(of, getattr(getattr(recipe, holder), attribute)))
    return cast(Unit, chosen) if chosen in get_args(Unit) else None


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


@router.get("/typed")
def typed(request: Request, piece_id: int, text: str, of: str) -> Response:
    """What was typed in a field that no form sends: a length in the unit of the reach, or a number.

    Answers {"value"}, or {"error"} in words where it is neither.
    """
    page = page_of(request, piece_id, "cage")
    try:
        if of == "length":
            value = length(text, page.recipe.reach.unit, page.diagonal, page.recipe.world.unit)
        else:
            value = number(text)
    except ValueError as error:
        words = f"{str(error)[:1].upper()}{str(error)[1:]}. The last good value stays."
        return JSONResponse({"error": words})
    return JSONResponse({"value": float(f"{value:.6g}")})


@router.post("/name")
def rename(request: Request, piece_id: int, name: str = Form("")) -> Response:
    """Another name on the shelf; an empty one changes nothing."""
    if name.strip():
        services_of(request).pieces.rename(piece_id, name.strip())
    return Response(status_code=204)


@router.post("/inherit/{step}")
def inherit(request: Request, piece_id: int, step: str, field: str) -> Response:
    """Let a setting of the scope be inherited again."""
    if field not in FIELDS:
        raise HTTPException(404, "There is no such setting of a scope.")
    before = page_of(request, piece_id, step)
    words = f"Inherit {field}"
    change(request, piece_id, words, lambda r: editing.set_scope(r, before.scope, {field: None}))
    return changed(request, piece_id, step, "low-changed")


@router.post("/id-color")
def id_color(request: Request, piece_id: int, form: SentForm) -> Response:
    """A colour "#rrggbb" for a name of the ID map; an empty one goes back to the colour that follows from the name."""
    name, color = str(form.get("name", "")), str(form.get("color", ""))
    change(request, piece_id, "Colour", lambda r: editing.set_id_color(r, name, color))
    return changed(request, piece_id, "maps")


@router.post("/step-back")
def step_back(request: Request, piece_id: int, step: str, by: int = -1) -> Response:
    """Undo (by below 0) or redo so many changes of settings."""
    before = page_of(request, piece_id, step).piece.recipe
    services_of(request).settings.step_back(piece_id, by)
    after = page_of(request, piece_id, step).piece.recipe
    return changed(request, piece_id, step, *redraws(before, after))


@router.get("/state")
def state(request: Request, piece_id: int) -> Response:
    """What the views draw: files with sculpts in them, and the newest finished bake."""
    page = page_of(request, piece_id, "meshes")
    sculpts = [m for m in page.meshes if sculpts_of(m, page.paired)]
    return JSONResponse(
        {
            "sculpts": [{"id": m.id, "name": m.file_name} for m in sculpts],
            "files": [{"id": m.id, "name": m.file_name} for m in page.meshes],
            "meshes": len(page.meshes),
            "facts": page.facts,
            "step": page.piece.step,
            "ready": page.ready and not page.blocking,
        }
    )
