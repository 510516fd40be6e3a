"""Starting the server and, on wish, putting the demo pieces on its shelf."""

import asyncio
import os
import pathlib
import shutil
import socket

import uvicorn

from ..demo import pieces
from ..engine.lanes import Lanes
from ..store import Store
from .app import create_app
from .services.services import Services

HOST = "127.0.0.1"


def data_folder(chosen: pathlib.Path | None, demo: bool) -> pathlib.Path:
    """Where pieces are kept: as chosen, else INKWELL_CAST_DATA, else a folder of the user's own."""
    if chosen:
        return chosen
    named = os.environ.get("INKWELL_CAST_DATA")
    return pathlib.Path(named) if named else pathlib.Path.home() / ".inkwell-cast" / ("demo" if demo else "shelf")


def serve(chosen: pathlib.Path | None, port: int, demo: bool) -> int:
    """Serve until interrupted; returns the exit code."""
    try:
        listener = socket.create_server((HOST, port), reuse_port=False)
    except OSError as error:
        print(f"inkwell-cast: Port {port} cannot be used ({error.strerror}). Choose another with --port.")
        return 1
    engine = Lanes()
    try:
        services = Services(Store(data_folder(chosen, demo)), engine)
        if demo and not services.pieces.shelf():
            print("Making the demo pieces; the very first start also compiles the baking kernels …", flush=True)
            asyncio.run(add_demo(services))
        print(f"Inkwell Cast is open at http://{HOST}:{listener.getsockname()[1]}  (Ctrl-C ends it)", flush=True)
        config = uvicorn.Config(create_app(services), log_level="warning", timeout_graceful_shutdown=2)
        uvicorn.Server(config).run(sockets=[listener])
    finally:
        engine.close()
    return 0


async def add_demo(services: Services) -> None:
    """Put the demo pieces on the shelf, by the road that an artist's files take."""
    for piece in pieces():
        folder = services.store.files.temporary_folder()
        roles = {}
        for path in piece.write(folder):
            upload = await services.uploads.take_in(path.name, _chunks(path))
            roles[upload.token] = ""  # their names say it
        shutil.rmtree(folder)
        services.pieces.make(piece.title, roles, piece.recipe)


async def _chunks(path: pathlib.Path):  # type: ignore[no-untyped-def]
    with path.open("rb") as file:
        while chunk := file.read(1 << 20):
            yield chunk
