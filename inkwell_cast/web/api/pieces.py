"""Files, pieces, their settings and what checks find of them."""

import secrets
from typing import Annotated, Any

import jsonpatch
import jsonpointer
from fastapi import APIRouter, Query, Request
from pydantic import ValidationError
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ...core.settings.recipe import Recipe, refused_words
from ..routes.shelf import sent
from ..services.settings import ShownState
from ..services.uploads import Upload
from ..templating import gone_of, services_of
from .models import Change, Checked, FileOnDisk, Id, NewPiece, Piece, SettingsState, TakenFile

router = APIRouter(tags=["pieces"])
UNFIT = jsonpatch.JsonPatchException, jsonpointer.JsonPointerException
BODY = {
    "requestBody": {
        "required": True,
        "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
    }
}


@router.put("/files", openapi_extra=BODY)
async def take_in(request: Request, name: str, batch: str = "") -> TakenFile | None:
    """Read a mesh that is the body of the request.

    What it names beside it (materials, buffers, textures) goes before it under the same `batch`, and is answered with
    null.
    """
    taken = await sent(request, name, batch)
    return _taken(taken) if taken else None


@router.put("/files/from")
def take_from(request: Request, file: FileOnDisk) -> TakenFile:
    """Read a mesh from where it lies on the machine of the server."""
    return _taken(services_of(request).uploads.take_from(file.path, gone_of(request)))


@router.get("/pieces")
def all_pieces(
    request: Request,
    response: Response,
    search: str = "",
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    offset: Annotated[int, Query(ge=0, le=10**9)] = 0,
) -> list[Piece]:
    """The pieces whose names hold some words, the newest first; `X-Total-Count` says how many there are."""
    pieces = services_of(request).pieces
    found = (pieces.get(entry[0].id) for entry in pieces.shelf(search, "newest", limit, offset))
    response.headers["X-Total-Count"] = str(len(pieces.names(search)))
    return [Piece.of(each) for each in found if each]


@router.post("/pieces", status_code=201)
def make(request: Request, piece: NewPiece) -> Piece:
    """A piece of meshes that were read."""
    pieces = services_of(request).pieces
    return Piece.of(pieces.wanted(pieces.make(piece.name, {**piece.files}, piece.settings)))


@router.get("/pieces/{piece_id}")
def one(request: Request, piece_id: Id) -> Piece:
    return Piece.of(services_of(request).pieces.wanted(piece_id))


@router.delete("/pieces/{piece_id}", status_code=204)
def delete(request: Request, piece_id: Id) -> Response:
    """Put a piece aside; it can be brought back on the page for a while."""
    services_of(request).pieces.delete(piece_id)
    return Response(status_code=204)


@router.post("/pieces/{piece_id}/files/{token}")
def add_file(request: Request, piece_id: Id, token: str) -> Piece:
    """Add a mesh that was read to a piece, or put it in the place of the file of its name."""
    pieces = services_of(request).pieces
    pieces.add_mesh(piece_id, token)
    return Piece.of(pieces.wanted(piece_id))


@router.get("/pieces/{piece_id}/settings")
def settings(request: Request, piece_id: Id) -> SettingsState:
    return _state(request, piece_id, [])


@router.patch("/pieces/{piece_id}/settings")
def patch(request: Request, piece_id: Id, change: Change) -> SettingsState:
    """Change settings; where they changed since the step given, both are joined, and what collides is left and said."""

    def edit(recipe: Recipe) -> Recipe:
        try:
            changed = jsonpatch.apply_patch(recipe.model_dump(mode="json"), change.patch)
        except (*UNFIT, TypeError, KeyError, ValueError) as error:
            raise InputProblem("The patch", f"It cannot be applied ({error}).", "Read the settings again.") from None
        return _recipe(changed)

    shown = None if change.step is None else ShownState(change.step, secrets.token_hex(8))  # as another tab each time
    return _state(request, piece_id, services_of(request).settings.change(piece_id, "A program", edit, shown))


@router.get("/pieces/{piece_id}/checks")
def checks(request: Request, piece_id: Id) -> list[Checked]:
    """What is wrong with the meshes, the worst first."""
    return [Checked.of(finding) for finding in services_of(request).measures.check(piece_id)]


def _taken(upload: Upload) -> TakenFile:
    facts = upload.facts
    return TakenFile(
        token=upload.token,
        name=upload.file_name,
        triangles=facts.triangles,
        objects=len(facts.parts),
        uvs=facts.channels > 0,
    )


def _state(request: Request, piece_id: int, said: list[str]) -> SettingsState:
    piece = services_of(request).pieces.wanted(piece_id)[0]
    return SettingsState(step=piece.step, settings=piece.recipe, said=said)


def _recipe(given: Any) -> Recipe:
    try:
        return Recipe.model_validate(given)
    except ValidationError as error:
        raise InputProblem("The patch", f"{refused_words(error)}.", "Give values that the settings can have.") from None
