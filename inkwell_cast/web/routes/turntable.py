"""One turn of a piece as the model view showed it, as an animation or as its frames."""

import asyncio
import io
import zipfile

from fastapi import APIRouter, Request, UploadFile
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ...core.images.turntable import animated
from .piece import context

router = APIRouter(prefix="/pieces/{piece_id}")
MOST_BYTES = 400 << 20


@router.post("/turntable.webp")
async def webp(request: Request, piece_id: int, frames: list[UploadFile]) -> Response:
    context(request, piece_id, "meshes")
    made = await asyncio.to_thread(animated, await _read(frames))
    return Response(made, media_type="image/webp")


@router.post("/turntable.zip")
async def frames_alone(request: Request, piece_id: int, frames: list[UploadFile]) -> Response:
    """The frames in an archive, numbered from 0."""
    context(request, piece_id, "meshes")
    pictures, data = await _read(frames), io.BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_STORED) as archive:
        for number, picture in enumerate(pictures):
            archive.writestr(f"{number:03d}.png", picture)
    return Response(data.getvalue(), media_type="application/zip")


async def _read(frames: list[UploadFile]) -> list[bytes]:
    if sum(frame.size or 0 for frame in frames) > MOST_BYTES:
        raise InputProblem("The turntable", "Its frames are larger than 400 MB.", "Make the window smaller.")
    return [await frame.read() for frame in frames]
