"""Normal maps that were made elsewhere: brought in, and judged as a bake is."""

import shutil
from typing import Annotated

from fastapi import APIRouter, Depends, Form, Request, UploadFile
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ...core.handoff.judge_map import ANY
from ...core.settings.basis import Basis
from ..piece_page import known_piece, page_of
from ..services.uploads import safe_name
from ..templating import services_of
from .basis import BIGGEST

router = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])


@router.post("/bring-in")
def bring_in(
    request: Request, piece_id: int, pictures: list[UploadFile], reading: Annotated[str, Form()] = ANY
) -> Response:
    """Judge maps, one a sheet in the order of their names; `reading` is "any", "object", "up" or "down"."""
    page, services = page_of(request, piece_id, "review"), services_of(request)
    basis = page.piece.recipe.basis
    readings: dict[str, Basis | str | None] = {
        ANY: ANY,
        "object": None,
        **{way: basis.model_copy(update={"green": way}) for way in ("up", "down")},
    }
    if reading not in readings:
        raise InputProblem("The map", f"“{reading}” is no basis.", "Choose one of the list.")
    for picture in pictures:
        if (picture.size or 0) > BIGGEST:
            raise InputProblem(picture.filename or "The map", "It is larger than 1 GB.", "Choose a smaller one.")
    folder = services.store.files.temporary_folder()
    try:
        given = []
        for n, picture in enumerate(sorted(pictures, key=lambda one: (one.filename or "").casefold())):
            path, name = folder / str(n), safe_name(picture.filename or "map.png")
            with path.open("wb") as file:
                shutil.copyfileobj(picture.file, file)
            given.append((str(path), name))
        services.bakes.bring_in(piece_id, given, readings[reading])
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return page_of(request, piece_id, "meshes").render("bake_box.html")


@router.post("/wear/{other_id}")
def wear(request: Request, piece_id: int, other_id: int) -> Response:
    """Judge the piece, a level of detail, with the normal maps of another level."""
    services_of(request).lods.wear(piece_id, other_id)
    return page_of(request, piece_id, "meshes").render("bake_box.html")
