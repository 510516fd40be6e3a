"""Batches of the shelf."""

from fastapi import APIRouter, Request
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ..templating import SentForm, render, services_of

router = APIRouter(prefix="/batches")


def fragment(request: Request, problem: str = "", place: str = "") -> Response:
    return render(request, "batches.html", **batch_context(request), problem=problem, place=place)


def batch_context(request: Request) -> dict[str, object]:
    """What the list of batches shows."""
    services = services_of(request)
    stage, share, left = services.batches.at_work()
    return {
        "batches": services.batches.all(),
        "receivers": services.receivers.all(),
        "batch_stage": stage,
        "batch_share": share,
        "batch_left": left,
    }


@router.get("")
def batches(request: Request) -> Response:
    return fragment(request)


@router.post("")
def start(request: Request, form: SentForm) -> Response:
    services, place = services_of(request), str(form.get("place", ""))
    chosen = [int(str(n)) for n in form.getlist("piece") if str(n).isdigit()]
    try:
        services.batches.start(chosen, services.receivers.find(str(form.get("receiver", ""))), place)
    except InputProblem as problem:
        return fragment(request, str(problem), place)
    return fragment(request)


@router.post("/cancel")
def cancel(request: Request) -> Response:
    services_of(request).batches.cancel()
    return fragment(request)


@router.post("/{batch_id}/out")
def forget(request: Request, batch_id: int) -> Response:
    """Take a batch off the list; its files stay where they are."""
    services_of(request).batches.forget(batch_id)
    return fragment(request)
