"""The list of what is at work, of all pages."""

from dataclasses import asdict

from fastapi import APIRouter, Request
from starlette.responses import JSONResponse, Response

from ..templating import render, services_of, stage_words

router = APIRouter(prefix="/at-work")


@router.get("")
def at_work(request: Request) -> Response:
    """What is at work, for a page that waits for it: the list as `AtWork` gives it, with stages in words."""
    jobs = services_of(request).work.listed()
    return JSONResponse([asdict(job) | {"stage": stage_words(job.stage)} for job in jobs])


@router.get("/list")
def listed(request: Request) -> Response:
    """The list of the top rail."""
    return render(request, "at_work.html", jobs=services_of(request).work.listed())


@router.post("/{number}/stop")
def stop(request: Request, number: int) -> Response:
    services_of(request).work.stop(number)
    return listed(request)
