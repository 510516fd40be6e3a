"""Who may talk to the server: pages of its own, on this machine, and nobody else.

Where it is open to other machines, whoever asks for anything has a token, by TLS.
"""

import asyncio
import base64
import re
import secrets

from starlette.concurrency import run_in_threadpool
from starlette.datastructures import Headers, MutableHeaders
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect
from starlette.responses import JSONResponse, PlainTextResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from .services.services import Services

LOCAL = re.compile(r"(127\.0\.0\.1|localhost|\[::1\])(:\d{1,5})?", re.IGNORECASE)
SAFE = {"GET", "HEAD"}
WAIT = 0.3  # seconds for each wrong token
MOST_ADDRESS = 8_000  # characters of a path with its query
MOST_BODY = 16 << 20  # bytes of a request that is no file: forms, JSON
API = "/api/1"
STREAMED = ("/uploads", "/pieces/open", f"{API}/files")  # they count for themselves
FILES = "multipart/form-data"
MOST_FILES = 4 << 30


class Guard:
    """Refuses other hosts and other origins, and sets the headers that keep pages to their own files."""

    def __init__(self, app: ASGIApp, services: Services, remote: bool = False) -> None:
        """`remote` is for a server that other machines reach."""
        self.app, self.services, self.remote = app, services, remote
        self._wrong = asyncio.Lock()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        limit = _limit(scope, headers)
        refused = self._refused(scope, headers, limit) or await self._unknown(scope, headers)
        if refused is not None:
            await refused(scope, receive, send)
            return
        taken, left = 0, False

        async def receive_limited() -> Message:
            nonlocal taken, left
            message = await receive()
            left = left or message["type"] == "http.disconnect"
            taken += len(message.get("body", b""))
            if limit is not None and taken > limit:
                raise _Overflow(limit)
            return message

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

        try:
            await self.app(scope, receive_limited, send_guarded)
        except ClientDisconnect:
            return  # nobody is there to answer
        except Exception:
            if not left:
                raise

    def _refused(self, scope: Scope, headers: Headers, limit: int | None) -> Response | None:
        """The answer to a request that is not let through."""
        for_program = scope["path"].startswith(API)
        reason, status = refusal(scope["method"], headers, self.remote), 403
        if not reason:
            reason, status = _too_long(scope)
        if reason:
            return JSONResponse({"error": reason}, status) if for_program else PlainTextResponse(reason, status)
        announced = headers.get("content-length", "")
        if limit is not None and announced.isdecimal() and int(announced[:20]) > limit:
            return _too_large(limit)
        return None

    async def _unknown(self, scope: Scope, headers: Headers) -> Response | None:
        """The answer to a request that needs a token and has none that is known.

        One with a wrong token waits for it, and they wait one after the other, so that none can be guessed.
        """
        for_program = scope["path"].startswith(API)
        if not (for_program or self.remote) or await run_in_threadpool(self._is_known, headers):
            return None
        if "authorization" in headers:
            async with self._wrong:
                await asyncio.sleep(WAIT)
        return _ASK_BROWSER if self.remote and not for_program else _UNKNOWN

    def _is_known(self, headers: Headers) -> bool:
        """Whether a request has the token of a program that was let in."""
        kind, _, given = headers.get("authorization", "").partition(" ")
        if kind.lower() == "basic" and self.remote:  # a browser, which asks for a name and a password
            try:
                given = base64.b64decode(given, validate=True).decode().partition(":")[2]
            except ValueError:
                return False
        elif kind.lower() != "bearer":
            return False
        return self.services.api_tokens.knows(given.strip())


_UNKNOWN = JSONResponse(
    {"error": "The request has no token of a program that was let in. Let it in on the shelf, under Programs."},
    401,
    {"WWW-Authenticate": "Bearer"},
)
_ASK_BROWSER = PlainTextResponse(
    "Give any name, and a token of this server as the password.",
    401,
    {"WWW-Authenticate": 'Basic realm="Inkwell Cast"'},
)


def refusal(method: str, headers: Headers, remote: bool = False) -> str:
    """Why a request is refused, or an empty string; a `remote` server goes by any name, over TLS."""
    hosts = headers.getlist("host")
    if len(hosts) != 1 or not (remote or LOCAL.fullmatch(hosts[0])):
        return "This address is not served here. Open the address that the program printed."
    origin = headers.get("origin")
    if origin is not None and origin.lower() != f"{'https' if remote else 'http'}://{hosts[0].lower()}":
        return "Requests from other sites are refused."
    if headers.get("sec-fetch-site") == "cross-site" and method not in SAFE:
        return "Requests from other sites are refused."
    return ""


class _Overflow(HTTPException):
    """A body is larger than its request may have."""

    def __init__(self, limit: int) -> None:
        super().__init__(413, _too_large_words(limit))


def _limit(scope: Scope, headers: Headers) -> int | None:
    """Bytes that the body of a request may have; None where the route counts for itself."""
    if scope["path"].startswith(STREAMED):
        return None
    return MOST_FILES if headers.get("content-type", "").startswith(FILES) else MOST_BODY


def _too_large(limit: int) -> Response:
    return JSONResponse({"error": _too_large_words(limit)}, 413)


def _too_large_words(limit: int) -> str:
    return f"The request is larger than {limit >> 20} MB."


def _too_long(scope: Scope) -> tuple[str, int]:
    """Why the address of a request is refused, and with which status; "" for none."""
    if len(scope.get("raw_path", b"")) + len(scope.get("query_string", b"")) > MOST_ADDRESS:
        return "This address is too long.", 414
    if "\x00" in scope["path"] or b"%00" in scope.get("query_string", b""):
        return "This address holds a character that no name has.", 400
    return "", 0
