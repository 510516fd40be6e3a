"""The shelf of pieces, and making a new one."""

from fastapi import APIRouter, Request
from pydantic import BaseModel
from starlette.responses import JSONResponse, RedirectResponse, Response

from ...core.errors import InputProblem
from ..pages import render, workshop
from ..workshop import too_large

router = APIRouter()


class NewPiece(BaseModel):
    name: str
    roles: dict[str, str]


@router.get("/")
def shelf(request: Request) -> Response:
    return render(request, "shelf.html", entries=workshop(request).shelf())


@router.get("/new")
def new(request: Request) -> Response:
    return render(request, "new.html")


@router.put("/uploads")
async def upload(request: Request, name: str) -> Response:
    """Take one file in; its body is the request's body."""
    shop = workshop(request)
    announced = request.headers.get("content-length", "")
    if announced.isdigit() and int(announced) > shop.max_upload:
        raise too_large(name, shop.max_upload)
    taken = await shop.take_in(name, request.stream())
    return JSONResponse(
        {
            "token": taken.token, "name": taken.file_name, "role": taken.role, "triangles": taken.loaded.triangles,
            "objects": taken.loaded.objects, "uvs": taken.loaded.has_uvs,
        }
    )  # fmt: skip


@router.post("/pieces")
def make(request: Request, piece: NewPiece) -> Response:
    piece_id = workshop(request).make_piece(piece.name, piece.roles)
    return JSONResponse({"address": f"/pieces/{piece_id}"})


@router.post("/pieces/{piece_id}/delete")
def delete(request: Request, piece_id: int) -> Response:
    if workshop(request).piece(piece_id) is None:
        raise InputProblem("The piece", "It is no longer on the shelf.", "Reload the page.")
    workshop(request).delete_piece(piece_id)
    return RedirectResponse("/", 303)
