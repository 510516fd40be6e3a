"""Who may talk to the server: pages of its own, on this machine, and nobody else."""

import secrets
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

LOCAL = {"127.0.0.1", "localhost", "::1"}
SAFE = {"GET", "HEAD"}


class Guard:
    """Refuses other hosts and other origins, and sets the headers that keep pages to their own files."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        reason = refusal(scope["method"], Headers(scope=scope))
        if reason:
            await PlainTextResponse(reason, 403)(scope, receive, send)
            return
        nonce = secrets.token_urlsafe(16)
        scope.setdefault("state", {})["nonce"] = nonce

        async def send_guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                headers["Content-Security-Policy"] = (
                    f"default-src 'self'; script-src 'self' 'nonce-{nonce}'; style-src 'self' 'unsafe-inline'; "
                    "img-src 'self' blob: data:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'"
                )
                headers["X-Content-Type-Options"] = "nosniff"
                headers["Referrer-Policy"] = "same-origin"
                headers.setdefault("Cache-Control", "no-cache")
            await send(message)

        await self.app(scope, receive, send_guarded)


def refusal(method: str, headers: Headers) -> str:
    """Why a request is refused, or an empty string."""
    host = headers.get("host", "")
    try:
        name = urlsplit(f"//{host}").hostname
    except ValueError:  # not the form of a host at all
        name = None
    if name not in LOCAL:
        return "This address is not served here. Open the address that the program printed."
    origin = headers.get("origin")
    if origin is not None and urlsplit(origin).netloc != host:
        return "Requests from other sites are refused."
    if headers.get("sec-fetch-site") == "cross-site" and method not in SAFE:
        return "Requests from other sites are refused."
    return ""
