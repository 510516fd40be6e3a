"""Sets of maps: chosen, kept, forgotten."""

from fastapi import APIRouter, Depends, Request
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ...core.settings.map_names import MAPS
from ...core.settings.map_sets import READY
from ...core.settings.recipe import Recipe
from ...store import map_sets
from ..piece_page import known_piece
from ..templating import SentForm, services_of
from .piece import change, changed

router = APIRouter(prefix="/pieces/{piece_id}/map-sets", dependencies=[Depends(known_piece)])
LONGEST = 40


@router.post("/choose")
def choose(request: Request, piece_id: int, name: str) -> Response:
    """Bake the maps of a set, and no others."""
    with services_of(request).store.reading() as db:
        kept = map_sets.all_of(db)
    if name not in READY and name not in kept:
        raise InputProblem(name, "There is no such set of maps.", "Reload the page.")
    maps = [key for key in MAPS if key in (READY.get(name) or kept[name])]

    def edit(recipe: Recipe) -> Recipe:
        return recipe.model_copy(update={"output": recipe.output.model_copy(update={"maps": maps})})

    change(request, piece_id, f"Maps: {name}", edit)
    return changed(request, piece_id, "maps")


@router.post("")
def keep(request: Request, piece_id: int, form: SentForm) -> Response:
    """Keep the maps that are chosen now as a set of one's own."""
    name = str(form.get("name", "")).strip()
    if not name or len(name) > LONGEST or name.lower() in READY:
        raise InputProblem("The set", f"It cannot be called “{name[:LONGEST]}”.", "Give a name of its own.")
    services = services_of(request)
    maps = services.pieces.wanted(piece_id)[0].recipe.output.maps
    with services.store.writing() as db:
        map_sets.put(db, name, list(maps))
    return changed(request, piece_id, "maps", said=[f"These {len(maps)} maps are kept as “{name}”."])


@router.post("/out")
def forget(request: Request, piece_id: int, name: str) -> Response:
    """Forget a set of one's own."""
    with services_of(request).store.writing() as db:
        if not map_sets.delete(db, name):
            raise InputProblem(name, "There is no such set of maps.", "Reload the page.")
    return changed(request, piece_id, "maps")
