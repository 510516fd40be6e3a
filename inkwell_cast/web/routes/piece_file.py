"""Pieces as portable files: saved from their page, opened on the shelf."""

import shutil

from fastapi import APIRouter, Depends, Request
from starlette.background import BackgroundTask
from starlette.responses import FileResponse, JSONResponse, Response

from ..piece_page import known_piece
from ..services.uploads import too_large
from ..templating import services_of

router = APIRouter()


@router.get("/pieces/{piece_id}/piece.icast", dependencies=[Depends(known_piece)])
def save(request: Request, piece_id: int) -> Response:
    """The piece with its meshes, settings and bakes."""
    services = services_of(request)
    path = services.piece_files.save(piece_id)
    remove = BackgroundTask(shutil.rmtree, path.parent, ignore_errors=True)
    return FileResponse(path, media_type="application/zip", filename=path.name, background=remove)


@router.put("/pieces/open")
async def open_piece(request: Request, name: str) -> Response:
    """Put a piece file on the shelf; its body is the request's body."""
    services = services_of(request)
    announced = request.headers.get("content-length", "")
    if announced.isdigit() and int(announced) > services.uploads.max_upload:
        raise too_large(name, services.uploads.max_upload)
    piece_id = await services.piece_files.open(name, request.stream())
    return JSONResponse({"address": f"/pieces/{piece_id}"})
