"""The web application."""

import contextlib
from collections.abc import AsyncIterator

import anyio.to_thread
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.staticfiles import StaticFiles
from pydantic import ValidationError
from starlette.exceptions import HTTPException
from starlette.responses import JSONResponse, Response

from ..core.base.errors import InputProblem
from ..core.settings.recipe import refusals
from ..engine.ticket import JobFailed
from .api import create_api
from .routes import (
    api_tokens,
    ask,
    at_work,
    bakes,
    basis,
    batches,
    brought,
    cage,
    folders,
    guide,
    handoff,
    library,
    live,
    map_sets,
    mends,
    meshes,
    patches,
    piece,
    piece_file,
    shelf,
    turntable,
)
from .security import API, Guard
from .services.services import Services
from .templating import HERE, render

THREADS = 120  # requests that are answered at once; each waits for its engine in a thread of its own


def create_app(services: Services, remote: bool = False) -> FastAPI:
    """The application over a services; requests of other hosts and origins are refused.

    With `remote` other machines may ask too, and everybody needs a token.
    """
    app = FastAPI(title="Inkwell Cast", docs_url=None, redoc_url=None, openapi_url=None, lifespan=_with_threads)
    app.state.services = services
    app.add_middleware(Guard, services=services, remote=remote)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    step_routes = ask, live, turntable, basis, handoff, library, map_sets, mends, patches, brought, bakes, meshes, cage
    for module in (at_work, api_tokens, folders, guide, piece_file, shelf, batches, *step_routes, piece):
        app.include_router(module.router)
    api = create_api(services)
    app.mount(API, api)
    app.state.api = api
    for each in (app, api):
        each.add_exception_handler(InputProblem, _refused)
        each.add_exception_handler(JobFailed, _refused)
        each.add_exception_handler(ValidationError, _out_of_range)
        each.add_exception_handler(HTTPException, _missing)
        each.add_exception_handler(RequestValidationError, _unlike_the_schema)
        each.add_exception_handler(OverflowError, _no_such_number)
    return app


@contextlib.asynccontextmanager
async def _with_threads(app: FastAPI) -> AsyncIterator[None]:
    """Threads for requests, most of which wait for an engine."""
    anyio.to_thread.current_default_thread_limiter().total_tokens = THREADS
    yield


def _refused(request: Request, problem: Exception) -> Response:
    """The one place where errors become words for the screen."""
    if getattr(problem, "kind", "") == "cancelled":
        return Response(status_code=204)  # given up since something newer was asked for
    status = 422 if isinstance(problem, InputProblem) or getattr(problem, "kind", "") == "input" else 500
    return JSONResponse({"error": str(problem)}, status)


def _out_of_range(request: Request, problem: Exception) -> Response:
    assert isinstance(problem, ValidationError)
    return JSONResponse({"error": "; ".join(f"{k}: {v}" for k, v in refusals(problem).items())}, 422)


def _unlike_the_schema(request: Request, problem: Exception) -> Response:
    assert isinstance(problem, RequestValidationError)
    said = [f"{'.'.join(str(part) for part in error['loc'])}: {error['msg']}" for error in problem.errors()[:8]]
    return JSONResponse({"error": "; ".join(said)}, 422)


def _no_such_number(request: Request, problem: Exception) -> Response:
    """A number in an address that is larger than any that the tables hold."""
    return _missing(request, HTTPException(404, "There is nothing of this number."))


def _missing(request: Request, problem: Exception) -> Response:
    assert isinstance(problem, HTTPException)
    if "text/html" in request.headers.get("accept", "") and "hx-request" not in request.headers:
        response = render(request, "missing.html", message=problem.detail)
        response.status_code = problem.status_code
        return response
    return JSONResponse({"error": problem.detail}, problem.status_code)
