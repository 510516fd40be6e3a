"""The step Cage: how well the cage holds the sculpt, and reach from measurement."""

import contextlib
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

import numpy as np
from fastapi import APIRouter, Depends, Request, UploadFile
from pydantic import BaseModel, ValidationError
from starlette.exceptions import HTTPException
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ...core.cage.coverage import Coverage
from ...core.mesh.binary_message import pack
from ...core.rays.modifiers.straighten import stored_picture
from ...core.review.section import Along
from ...core.settings import editing
from ...core.settings.item_keys import item_keys
from ...core.settings.recipe import Recipe, refusals
from ...core.settings.regions import Pocket, Stroke
from ...core.settings.typed_numbers import length
from ..piece_page import PiecePage, extend, known_piece, page_of
from ..services.settings import BY_ITSELF
from ..templating import SentForm, services_of
from .meshes import marked
from .piece import change, changed

LISTED = 50  # pockets at a time


@dataclass(frozen=True, slots=True)
class PocketList:
    """Some of a piece's pockets: each with its key, those whose names hold `find`, from the one counted `first`."""

    items: list[tuple[str, Pocket]]
    first: int
    found: int
    total: int
    find: str
    each: int = LISTED

    @property
    def query(self) -> str:
        """What an address ends in so that the same ones are listed in its answer."""
        return urlencode({"find": self.find, "first": self.first}) if self.total > LISTED else ""


class PointOnLow(BaseModel):
    """A place on the low, scene units."""

    x: float
    y: float
    z: float


class Brushed(BaseModel):
    """A stroke as the brush drew it: size in the unit of the reach, move too; strength a share."""

    kind: str
    points: list[tuple[float, float, float]]
    size: str
    move: str
    strength: str
    falloff: str
    mirror: str


router = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])
BIGGEST_PICTURE = 100 << 20


def _tried(outward: float | None, inward: float | None) -> dict[str, float]:
    return {name: value for name, value in (("outward", outward), ("inward", inward)) if value is not None}


def _covered(request: Request, piece_id: int, reach: dict[str, float]) -> tuple[PiecePage, Coverage]:
    page = page_of(request, piece_id, "cage")
    return page, services_of(request).measures.cover(piece_id, page.scope, reach)


@router.get("/coverage")
def coverage(request: Request, piece_id: int, outward: float | None = None, inward: float | None = None) -> Response:
    """What the cage holds, in words and as data for the reach rule; a reach that is being tried may be given."""
    page, covered = _covered(request, piece_id, _tried(outward, inward))
    rule = {
        "fitted": page.piece.recipe.reach.shape == "fitted",
        "edges": covered.edges.tolist(),
        "surface": covered.surface.tolist(),
        "needed": covered.needed,
    }
    return page.render("coverage.html", coverage=covered, rule=rule)


@router.get("/coverage/points")
def points(request: Request, piece_id: int, outward: float | None = None, inward: float | None = None) -> Response:
    """Lines on the low of how far the sculpt stands out of what the cage holds, and around places whose rays fail."""
    _, covered = _covered(request, piece_id, _tried(outward, inward))
    arrays = {"rim_lines": covered.gaps.rim.lines}
    for name, lines in (("out", covered.out), ("below", covered.below)):
        arrays |= {f"{name}_lines": lines.lines, f"{name}_labels": lines.labels}
    return Response(b"".join(pack({}, arrays)), media_type="application/octet-stream")


@router.get("/coverage/folds")
def folds(request: Request, piece_id: int) -> Response:
    """Faces of the cage that are folded or cross others, as triangles of the low to hatch."""
    _, covered = _covered(request, piece_id, {})
    return marked(covered.cage.bad_faces, "Cage faces")


@router.get("/section")
def section(
    request: Request,
    piece_id: int,
    triangle: int,
    x: float,
    y: float,
    z: float,
    turned: float = 0.0,
    zoom: float = 1.0,
    along: Along = "u",
    view: str = "0,0,1",
) -> Response:
    """The slice at a place of the low, for the drawer; 204 where there is none to draw."""
    if not 0.05 <= zoom <= 50:
        raise HTTPException(422, f"A zoom of {zoom:g} cannot be drawn; 0.05 to 50 can.")
    try:
        looks = tuple(float(part) for part in view.split(","))
    except ValueError:
        looks = ()
    if len(looks) != 3 or not any(looks) or not np.isfinite(looks).all():
        raise HTTPException(422, f"A view along “{view}” cannot be; give three numbers.")
    cut = services_of(request).measures.section(piece_id, triangle, (x, y, z), turned, zoom, along, looks)
    if cut is None:
        return Response(status_code=204)
    header = {
        "halfWidth": cut.half_width,
        "halfHeight": cut.half_height,
        "part": cut.part,
        "outward": cut.outward,
        "inward": cut.inward,
        "height": cut.height,
        "angle": cut.angle,
        "struck": cut.struck,
        "rays": [
            {
                "drawn": r.drawn.tolist(),
                "places": r.places.tolist(),
                "struck": r.struck,
                "normal": r.normal,
                "triangle": r.triangle,
                "uv": r.uv,
            }
            for r in cut.rays
        ],
    }
    lines = {"low": cut.low, "cage": cut.cage, "sculpt": cut.sculpt}
    return Response(b"".join(pack(header, lines)), media_type="application/octet-stream")


@extend("cage")
def with_pockets(request: Request, page: PiecePage) -> dict[str, Any]:
    """The pockets that the step lists and draws; many are found by their names, a page at a time."""
    find, first = request.query_params.get("find", "")[:80], request.query_params.get("first", "")
    every = page.recipe.pockets
    found = [place for place, pocket in enumerate(every) if find.lower() in pocket.name.lower()]
    start = min(int(first), len(found) // LISTED * LISTED) if first.isdecimal() and len(first) < 10 else 0
    places = found[start : start + LISTED]
    items = list(zip(item_keys(every, set(places)), [every[place] for place in places], strict=True))
    shown = PocketList(items, start, len(found), len(every), find)
    drawn = [{"key": key, "centre": p.centre, "radius": p.radius * page.scale, "rim": p.rim} for key, p in shown.items]
    return {"pockets": shown, "pockets_drawn": drawn}


@router.get("/pockets")
def list_pockets(request: Request, piece_id: int) -> Response:
    """Those pockets whose names hold `find`, from the one counted `first`."""
    return page_of(request, piece_id, "cage").render("pockets.html")


@router.post("/pockets")
def add_pocket(request: Request, piece_id: int, place: PointOnLow) -> Response:
    """A pocket where the model was clicked."""
    change(request, piece_id, "Add a pocket", lambda r: editing.add_pocket(r, (place.x, place.y, place.z)), True)
    return changed(request, piece_id, "cage", "cage-changed")


@router.post("/pockets/{key}")
def set_pocket(request: Request, piece_id: int, key: str, form: SentForm) -> Response:
    """Name, place, radius, reaches and rim of a pocket; what is out of range is told and not kept."""
    page = page_of(request, piece_id, "cage")
    given: dict[str, Any] = {
        k: str(form[k]).strip() for k in ("name", "radius", "outward", "inward", "rim") if k in form
    }
    recipe = page.piece.recipe
    for side in ("radius", "outward", "inward"):  # what cannot be read is told by the recipe
        with contextlib.suppress(KeyError, ValueError):
            given[side] = length(given[side], recipe.reach.unit, page.diagonal, recipe.world.unit)
    if "x" in form:
        given["centre"] = tuple(str(form[axis]).strip() for axis in "xyz")
    try:
        editing.set_pocket(page.piece.recipe, key, given)
    except ValidationError as refused:
        page.errors = {f"pocket.{key}": "; ".join(f"{k}: {v}" for k, v in refusals(refused).items())}
        return page.render("panel.html")
    change(request, piece_id, "Pocket", lambda r: editing.set_pocket(r, key, given))
    return changed(request, piece_id, "cage", "cage-changed")


@router.post("/pockets/{key}/out")
def remove_pocket(request: Request, piece_id: int, key: str) -> Response:
    change(request, piece_id, "Remove a pocket", lambda r: editing.without_pocket(r, key))
    return changed(request, piece_id, "cage", "cage-changed")


@router.post("/straighten-picture")
def set_picture(request: Request, piece_id: int, picture: UploadFile) -> Response:
    """Take a grey picture laid by the low's UVs that says where rays turn to their faces."""
    name = picture.filename or "picture.png"
    if picture.size and picture.size > BIGGEST_PICTURE:
        raise InputProblem(name, "The picture is larger than 100 MB.", "Choose a smaller one; 1024 texels are kept.")
    stored = stored_picture(picture.file.read(), name)
    change(request, piece_id, f"Straighten by {name}", lambda r: _with_picture(r, stored))
    return changed(request, piece_id, "cage", "cage-changed")


@router.post("/straighten-picture/out")
def remove_picture(request: Request, piece_id: int) -> Response:
    change(request, piece_id, "Remove the straightening picture", lambda r: _with_picture(r, ""))
    return changed(request, piece_id, "cage", "cage-changed")


def _with_picture(recipe: Recipe, stored: str) -> Recipe:
    return recipe.model_copy(update={"straight_picture": stored})


@router.post("/nudges")
def add_nudge(request: Request, piece_id: int, brushed: Brushed) -> Response:
    """A stroke of the brush on the cage; one that cannot be is told and not kept."""
    page = page_of(request, piece_id, "cage")
    stroke = stroke_of(brushed, page.piece.recipe.reach.scale(page.diagonal))
    try:
        editing.add_stroke(page.piece.recipe, stroke)
    except ValidationError as refused:
        raise _no_stroke(refused) from refused
    change(request, piece_id, f"Nudge {brushed.kind}", lambda r: editing.add_stroke(r, stroke), True)
    return changed(request, piece_id, "cage", "cage-changed")


def stroke_of(brushed: Brushed, scale: float) -> Stroke:
    """A stroke as the brush drew it; `scale` is one of the piece's unit in scene units. Raises InputProblem."""
    numbers = {}
    for name in ("size", "move", "strength", "falloff"):
        try:
            numbers[name] = float(getattr(brushed, name))
        except ValueError as error:
            raise InputProblem(
                "The brush", f"“{getattr(brushed, name)}” is no {name}.", "Give a number, such as 1.5."
            ) from error
    moves = brushed.kind in ("out", "in")
    if not moves and not 0 <= numbers["strength"] <= 1:
        raise InputProblem("The brush", f"A strength of {numbers['strength']:g} cannot be.", "Give 0 to 1.")
    try:
        return Stroke.model_validate(
            {
                "kind": brushed.kind,
                "points": brushed.points,
                "radius": numbers["size"] * scale,
                "amount": numbers["move"] * scale if moves else numbers["strength"],
                "falloff": numbers["falloff"],
                "mirror": brushed.mirror,
            }
        )
    except ValidationError as refused:
        raise _no_stroke(refused) from refused


def _no_stroke(refused: ValidationError) -> InputProblem:
    words = "; ".join(f"{k.partition('.')[0]} {v}" for k, v in refusals(refused).items())
    return InputProblem("The brush", f"{words}.", "Change the brush, or take back earlier strokes.")


@router.post("/nudges/out")
def remove_nudge(request: Request, piece_id: int, key: str | None = None) -> Response:
    """Take back one nudge, or all."""
    words = "Remove a nudge" if key is not None else "Remove all nudges"
    change(request, piece_id, words, lambda r: editing.without_stroke(r, key))
    return changed(request, piece_id, "cage", "cage-changed")


@router.post("/measure")
def measure(request: Request, piece_id: int) -> Response:
    """Set the reach of the scope to what looks best on small bakes."""
    page = page_of(request, piece_id, "cage")
    scope = page.scope
    found = services_of(request).measures.measure(piece_id, scope)
    change(request, piece_id, "Measure", lambda r: found.set_in(r, page.diagonal, scope))
    return changed(request, piece_id, "cage", "cage-changed", said=[found.words])


@router.post("/measure/new")
def measure_new(request: Request, piece_id: int) -> Response:
    """Set the reach of a new piece to what looks best, where nobody set it yet; 204 where it stays."""
    page = page_of(request, piece_id, "cage")
    if not page.unmeasured:
        return Response(status_code=204)
    found = services_of(request).measures.measure(piece_id, "piece")

    def edit(recipe: Recipe) -> Recipe:
        return found.set_in(recipe, page.diagonal) if recipe.reach == page.recipe.reach else recipe

    change(request, piece_id, BY_ITSELF, edit)
    return changed(request, piece_id, "cage", "cage-changed")


@router.post("/fit")
def fit(request: Request, piece_id: int) -> Response:
    """Set the even reach that looks best, and fit the cage to the sculpt from it if that looks no worse."""
    page = page_of(request, piece_id, "cage")
    found = services_of(request).measures.try_fit(piece_id)
    change(request, piece_id, "Fit", lambda recipe: found.set_in(recipe, page.diagonal))
    return changed(request, piece_id, "cage", "cage-changed", said=[found.words])
