"""The live proof of a piece: a picture of the map in view, how it is seen, and the whole proof, one after the other."""

from collections.abc import Callable

from fastapi import APIRouter, Depends, Request
from pydantic import BaseModel, ValidationError
from starlette.responses import JSONResponse, Response

from ...core.base.errors import InputProblem
from ...core.settings import editing
from ...core.settings.item_keys import item_keys
from ...core.settings.recipe import Recipe, refusals
from ..piece_page import PiecePage, facts_of, known_piece, page_of
from ..templating import services_of
from .bakes import bake_of
from .cage import Brushed, stroke_of

router = APIRouter(prefix="/pieces/{piece_id}/live", dependencies=[Depends(known_piece)])


class Dragged(BaseModel):
    """What is being dragged: a reach of a scope in the unit of the piece, a stroke, or a pocket by its key."""

    outward: float | None = None
    inward: float | None = None
    stroke: Brushed | None = None
    pocket: str | None = None
    centre: tuple[float, float, float] | None = None
    radius: float | None = None


@router.post("/picture")
def picture(request: Request, piece_id: int, key: str, tried: Dragged | None = None) -> Response:
    """The picture of a map as settings are now, or with what is being tried; a message as `mesh_message.js` reads it.

    204 where something newer was asked for.
    """
    page = page_of(request, piece_id, "cage")
    edit = _edit(tried, page) if tried else None
    try:
        message = services_of(request).live.show(piece_id, key, edit)
    except ValidationError as refused:
        raise InputProblem("What is tried", "; ".join(refusals(refused).values()), "Drag it back.") from refused
    return Response(message, media_type="application/octet-stream")


def _edit(tried: Dragged, page: PiecePage) -> Callable[[Recipe], Recipe]:
    def edit(recipe: Recipe) -> Recipe:
        reach = {name: getattr(tried, name) for name in ("outward", "inward") if getattr(tried, name) is not None}
        recipe = editing.with_reach(recipe, page.scope, reach)
        if tried.stroke:
            recipe = editing.add_stroke(recipe, stroke_of(tried.stroke, recipe.reach.scale(page.diagonal)))
        if tried.pocket in item_keys(recipe.pockets):
            given = {name: getattr(tried, name) for name in ("centre", "radius")}
            recipe = editing.set_pocket(recipe, tried.pocket, {k: v for k, v in given.items() if v is not None})
        return recipe

    return edit


@router.post("/judged")
def judged(request: Request, piece_id: int, key: str) -> Response:
    """The picture of a map with all its samples, and in its header how the proof is seen."""
    message = services_of(request).live.judge(piece_id, key)
    return Response(message, media_type="application/octet-stream")


@router.post("/proof")
def proof(request: Request, piece_id: int) -> Response:
    """The whole proof with its flaws, kept as the newest bake until the next: what the views need to know of it."""
    bake_id = services_of(request).live.finish(piece_id)
    row, page = services_of(request).bakes.get(bake_id), page_of(request, piece_id, "meshes")
    assert row is not None
    return JSONResponse(facts_of(request, row, page.piece, page.meshes))


@router.post("/{bake_id}/keep")
def keep(request: Request, piece_id: int, bake_id: int) -> Response:
    """Keep a live proof in the history."""
    services_of(request).live.keep(bake_of(request, piece_id, bake_id).id)
    return Response(status_code=204)
