"""Programs that may use the API, on the page."""

from fastapi import APIRouter, Request
from starlette.responses import JSONResponse, Response

from ...core.base.errors import InputProblem
from ..security import API
from ..templating import SentForm, render, services_of

router = APIRouter(prefix="/programs")


@router.get("")
def programs(request: Request) -> Response:
    return render(request, "api_tokens.html", **_listed(request))


@router.get("/openapi.json")
def described(request: Request) -> Response:
    """The description of the API, which anybody on this machine may read."""
    return JSONResponse(request.app.state.api.openapi())


@router.post("")
def let_in(request: Request, form: SentForm) -> Response:
    """Make a token for a program and show it, this once."""
    name = str(form.get("name", ""))
    try:
        token = services_of(request).api_tokens.let_in(name)
    except InputProblem as problem:
        return render(request, "api_tokens_body.html", **_listed(request), problem=str(problem))
    address = f"{request.base_url}".rstrip("/") + API
    return render(request, "api_tokens_body.html", **_listed(request), token=token, named=name.strip(), address=address)


@router.post("/{client_id}/out")
def shut_out(request: Request, client_id: int) -> Response:
    services_of(request).api_tokens.shut_out(client_id)
    return render(request, "api_tokens_body.html", **_listed(request))


def _listed(request: Request) -> dict[str, object]:
    return {"clients": services_of(request).api_tokens.all()}
