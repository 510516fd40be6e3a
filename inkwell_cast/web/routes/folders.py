"""The chooser of folders on this machine."""

from dataclasses import asdict

from fastapi import APIRouter, Request
from starlette.responses import JSONResponse, Response

from ..templating import services_of

router = APIRouter()


@router.get("/folders")
def folders(request: Request, place: str = "", piece: int | None = None) -> Response:
    """A folder as `Listed` tells of it."""
    return JSONResponse(asdict(services_of(request).folders.listed(place, piece)))
