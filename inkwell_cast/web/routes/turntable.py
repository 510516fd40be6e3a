"""One turn of a piece as the model view showed it, as an animation or as its frames."""

from fastapi import APIRouter, Depends, Request, UploadFile
from starlette.responses import Response, StreamingResponse

from ...core.base.errors import InputProblem
from ...core.images.turntable import animated
from ..piece_page import known_piece
from ..streamed_zip import zipped

router = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])
MOST_BYTES = 400 << 20


@router.post("/turntable.webp")
def webp(request: Request, piece_id: int, frames: list[UploadFile]) -> Response:
    return Response(animated(_read(frames)), media_type="image/webp")


@router.post("/turntable.zip")
def frames_alone(request: Request, piece_id: int, frames: list[UploadFile]) -> Response:
    """The frames in an archive, numbered from 0."""
    pictures = ((f"{number:03d}.png", picture) for number, picture in enumerate(_read(frames)))
    return StreamingResponse(zipped(pictures), media_type="application/zip")


def _read(frames: list[UploadFile]) -> list[bytes]:
    if sum(frame.size or 0 for frame in frames) > MOST_BYTES:
        raise InputProblem("The turntable", "Its frames are larger than 400 MB.", "Make the window smaller.")
    return [frame.file.read() for frame in frames]
