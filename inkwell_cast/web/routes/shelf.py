"""The shelf of pieces, and making a new one."""

import pathlib
from functools import lru_cache
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Query, Request
from pydantic import BaseModel
from starlette.exceptions import HTTPException
from starlette.responses import JSONResponse, RedirectResponse, Response

from ...core.base.errors import InputProblem
from ...core.base.on_demand import library
from ..services.pieces import lods_of
from ..services.uploads import Upload
from ..templating import SentForm, gone_of, in_bytes, render, services_of
from .batches import batch_context

cv2 = library("cv2")
router = APIRouter()

A_PAGE = 48  # pieces


class FolderOnDisk(BaseModel):
    path: str


class PieceOfUploads(BaseModel):
    name: str
    roles: dict[str, str]
    alone: bool = False
    each_level: bool = False


@router.get("/")
def shelf(
    request: Request, q: str = "", order: str = "newest", page: Annotated[int, Query(ge=1, le=10**6)] = 1
) -> Response:
    """A page of the shelf: pieces whose names hold some words, by when they were made or by name."""
    pieces = services_of(request).pieces
    found, every = len(pieces.names(q)), len(pieces.names())
    pages = max(-(-found // A_PAGE), 1)
    page = min(page, pages)
    entries = pieces.shelf(q, order, A_PAGE, (page - 1) * A_PAGE)
    shown = {"q": q, "order": order, "page": page, "pages": pages, "found": found, "every": every}
    return render(request, "shelf.html", entries=entries, **shown, **batch_context(request))


@router.get("/new")
def new(request: Request) -> Response:
    return render(request, "new.html")


@router.put("/uploads")
async def upload(request: Request, name: str, batch: str = "") -> Response:
    """Take one file in; its body is the request's body. What belongs to a mesh goes before it, in one batch."""
    taken = await sent(request, name, batch)
    return described(taken) if taken else JSONResponse({"companion": True})


async def sent(request: Request, name: str, batch: str) -> Upload | None:
    """The file that is the body of a request; None for what belongs to a mesh."""
    announced = request.headers.get("content-length", "")
    uploads = services_of(request).uploads
    return await uploads.take_sent(name, batch, announced, request.stream(), gone_of(request))


@router.put("/uploads/from")
def upload_from(request: Request, place: FolderOnDisk) -> Response:
    """Take a file in from where it lies on this machine."""
    return described(services_of(request).uploads.take_from(place.path, gone_of(request)))


@router.post("/uploads/roles")
def roles(request: Request, tokens: list[str]) -> Response:
    """What files say: roles proposed where names give none, by token, each with why; levels of detail in names."""
    uploads = services_of(request).uploads
    guesses = uploads.guesses(tokens)
    known = [upload for token in tokens if (upload := uploads.taken.get(token))]
    roles = {token: {"role": guess.role, "why": guess.why} for token, guess in guesses.items()}
    return JSONResponse({"roles": roles, "levels": lods_of(known)})


def described(taken: Upload) -> Response:
    return JSONResponse(_described(taken))


def _described(taken: Upload) -> dict[str, Any]:
    facts = taken.facts
    return {
        "token": taken.token,
        "name": taken.file_name,
        "triangles": facts.triangles,
        "objects": len(facts.parts),
        "uvs": facts.channels > 0,
    }


@router.get("/uploads")
def taken(request: Request, tokens: str) -> Response:
    """Files that were taken in and are not yet part of a piece, of some tokens with commas between them."""
    known = services_of(request).uploads.taken
    return JSONResponse([_described(known[token]) for token in tokens.split(",") if token in known])


@router.post("/pieces")
def make(request: Request, piece: PieceOfUploads) -> Response:
    pieces = services_of(request).pieces
    if piece.each_level:
        first = pieces.make_lods(piece.name, piece.roles, piece.alone)[0]
    else:
        first = pieces.make(piece.name, piece.roles, alone=piece.alone)
    return JSONResponse({"address": f"/pieces/{first}"})


@router.get("/pieces/{piece_id}/lit.png")
def lit(request: Request, piece_id: int) -> Response:
    """A piece as it looks: with its newest map, or before there is one its sculpt. 503 while the engine is busy."""
    path = services_of(request).drawings.lit(piece_id)
    if path is None:
        return Response(status_code=503, headers={"Retry-After": "2"})
    return Response(_first_side(path), media_type="image/png")


@lru_cache(maxsize=100)
def _first_side(path: pathlib.Path) -> bytes:
    """The first of the pictures beside each other in a strip of square ones, without what is empty around it."""
    strip = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
    if strip is None:
        raise HTTPException(404, "This picture cannot be read.")
    picture = strip[:, : strip.shape[0]]
    x, y, width, height = cv2.boundingRect((picture[..., 3] > 0).astype(np.uint8))
    return bytes(cv2.imencode(".png", picture[y : y + max(height, 1), x : x + max(width, 1)])[1])


@router.post("/pieces/{piece_id}/as-known")
def take_as_known(request: Request, piece_id: int) -> Response:
    """Open a piece that another version made, as far as this one knows it."""
    services_of(request).pieces.take_as_known(piece_id)
    return RedirectResponse(f"/pieces/{piece_id}", 303)


@router.post("/pieces/{piece_id}/delete")
def delete(request: Request, piece_id: int) -> Response:
    if services_of(request).pieces.get(piece_id) is None:
        raise InputProblem("The piece", "It is no longer on the shelf.", "Reload the page.")
    services_of(request).pieces.delete(piece_id)
    return RedirectResponse("/", 303)


@router.get("/disk")
def disk_use(request: Request, said: str = "") -> Response:
    """What takes how much disk, what was deleted and can be brought back, and ways to free some."""
    return render(request, "disk.html", **services_of(request).disk.report(), said=said)


@router.post("/disk/proofs")
def keep_proofs(request: Request, form: SentForm) -> Response:
    """Put aside all but the newest proofs of every piece."""
    kept = str(form.get("kept", ""))
    if not kept.isdecimal() or len(kept) > 6:
        raise InputProblem("Proofs to keep", f"“{kept[:40]}” is no number.", "Give one such as 10.")
    count = services_of(request).disk.keep_proofs(int(kept))
    return _disk(request, f"{count} {'proof was' if count == 1 else 'proofs were'} deleted, and can be brought back.")


@router.post("/disk/back")
def bring_back(request: Request, form: SentForm) -> Response:
    """Bring back a deleted piece, or the bakes of one that were deleted together."""
    piece_id, moment = str(form.get("piece", "")), str(form.get("moment", ""))
    try:
        services_of(request).pieces.bring_back(int(piece_id), float(moment) if moment else None)
    except (ValueError, OverflowError):
        raise InputProblem("What was deleted", "It is no longer there.", "Reload the page.") from None
    return _disk(request, "It is back.")


@router.post("/disk/empty")
def empty(request: Request) -> Response:
    """Remove for good all that was deleted."""
    freed = services_of(request).disk.empty()
    return _disk(request, f"{in_bytes(freed)} were freed.")


def _disk(request: Request, said: str) -> Response:
    return render(request, "disk_body.html", **services_of(request).disk.report(), said=said)
