"""Starting the server and, on wish, putting the demo pieces on its shelf."""

import asyncio
import importlib
import json
import os
import pathlib
import shutil
import socket
import urllib.request
import webbrowser
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass

import uvicorn

from ..core.base.progress import ShareDone
from ..engine.cluster import cluster_at
from ..engine.lanes import Lanes
from ..store import Store
from .app import create_app
from .services.services import Services

HOST = "127.0.0.1"
LOOK_EVERY = 0.2  # seconds between two looks at how far the compiling is


@dataclass(frozen=True, slots=True)
class Remote:
    """The address that other machines reach a server at, and the files of its TLS certificate and key."""

    host: str
    certificate: pathlib.Path
    key: pathlib.Path


def data_folder(chosen: pathlib.Path | None, demo: bool) -> pathlib.Path:
    """Where pieces are kept: as chosen, else INKWELL_CAST_DATA, else a folder of the user's own."""
    if chosen:
        return chosen
    named = os.environ.get("INKWELL_CAST_DATA")
    return pathlib.Path(named) if named else pathlib.Path.home() / ".inkwell-cast" / ("demo" if demo else "shelf")


def serve(
    chosen: pathlib.Path | None,
    port: int,
    demo: bool,
    compiling: ShareDone = lambda share: None,
    browser: bool = False,
    cluster: str | None = None,
    remote: Remote | None = None,
) -> int:
    """Serve until interrupted; returns the exit code. `compiling` hears how far that is before demo pieces are made.

    Full bakes are traced by the `cluster` at an address, if there is one. Raises InputProblem where that cannot be.
    A `remote` server is reached by other machines, and asks everybody for a token. With `browser` that is opened too;
    where the program runs already on the port, that one is shown.
    """
    host = remote.host if remote else HOST
    try:
        listener = socket.create_server((host, port), reuse_port=False)
    except OSError as error:
        if browser and _is_here(port):
            print(f"Inkwell Cast is open already at http://{HOST}:{port}", flush=True)
            webbrowser.open(f"http://{HOST}:{port}")
            return 0
        print(f"inkwell-cast: {host}:{port} cannot be used ({error.strerror}). Choose another with --port.")
        return 1
    workers = cluster_at(cluster) if cluster else None
    engine = Lanes(workers.scheduler if workers else "")
    try:
        services = Services(Store(data_folder(chosen, demo)), engine)
        if demo and not services.pieces.names():
            _await_kernels(engine, compiling)
            asyncio.run(add_demo(services, lambda name: print(f"Making the demo pieces: {name} …", flush=True)))
        address = f"{'https' if remote else 'http'}://{host}:{listener.getsockname()[1]}"
        if remote and not services.api_tokens.all():
            print(f"The first token, shown once: {services.api_tokens.let_in('the first')}", flush=True)
        print(f"Inkwell Cast is open at {address}  (Ctrl-C ends it)", flush=True)
        if browser:
            webbrowser.open(address)
        config = uvicorn.Config(
            create_app(services, bool(remote)), log_level="warning", timeout_graceful_shutdown=2,
            ssl_certfile=remote.certificate if remote else None, ssl_keyfile=remote.key if remote else None,
        )  # fmt: skip
        _Server(config, engine).run(sockets=[listener])
    finally:
        engine.close()
        if workers:
            workers.close()
    return 0


class _Server(uvicorn.Server):
    """One whose requests do not wait for jobs that will never end."""

    def __init__(self, config: uvicorn.Config, engine: Lanes) -> None:
        super().__init__(config)
        self.engine = engine

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        await asyncio.to_thread(self.engine.close)  # who waits for a job hears that it has ended
        await super().shutdown(sockets)


def _is_here(port: int) -> bool:
    """Whether it is this program that listens on a port."""
    try:
        with urllib.request.urlopen(f"http://{HOST}:{port}/at-work", timeout=2) as answer:
            return isinstance(json.load(answer), list)
    except (OSError, ValueError):
        return False


def _await_kernels(engine: Lanes, compiling: ShareDone) -> None:
    """Wait until all kernels are compiled, which they are for good."""
    while not engine.hand.ready.wait(LOOK_EVERY):
        if engine.hand.told.stage == "compiling":
            compiling(engine.hand.told.share)


async def add_demo(services: Services, tell: Callable[[str], None] = lambda name: None) -> None:
    """Put the demo pieces on the shelf, by the road that an artist's files take; `tell` hears the title of each."""
    for piece in importlib.import_module("..demo.pieces", __package__).pieces():
        tell(piece.title)
        folder = services.store.files.temporary_folder()
        roles = {}
        for path in piece.write(folder):
            upload = await services.uploads.take_in(path.name, _chunks(path))
            roles[upload.token] = ""  # their names say it
        shutil.rmtree(folder)
        services.pieces.make(piece.title, roles, piece.recipe)


async def _chunks(path: pathlib.Path) -> AsyncIterator[bytes]:
    with path.open("rb") as file:
        while chunk := file.read(1 << 20):
            yield chunk
