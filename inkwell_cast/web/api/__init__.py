"""The API for programs, version 1: what the page does, as JSON, at /api/1, described at /api/1/openapi.json."""

from fastapi import FastAPI

from ... import __version__
from ..security import API
from ..services.services import Services
from . import bakes, pieces
from .models import Problem

DOES = (
    "Pieces, their files and settings, checks, bakes with progress, flaws, mends and handoffs of Inkwell Cast. Every "
    "request has the token of its program as “Authorization: Bearer TOKEN”. What cannot be used is answered with 422 "
    "and words."
)


def create_api(services: Services) -> FastAPI:
    """The application that is mounted at /api/1; who may use it is seen to before."""
    api = FastAPI(
        title="Inkwell Cast",
        version=__version__,
        description=DOES,
        docs_url=None,
        redoc_url=None,
        servers=[{"url": API}],
        root_path_in_servers=False,
        responses={status: {"model": Problem} for status in (400, 401, 403, 404, 405, 413, 414, 422)},
    )
    api.state.services = services
    api.include_router(pieces.router)
    api.include_router(bakes.router)
    return api
