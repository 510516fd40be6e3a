"""What several test files share: a running server on a data folder of its own."""

import contextlib
import socket
import threading
import time

import pytest
import uvicorn

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.engine.lanes import Lanes
from inkwell_cast.store import Store
from inkwell_cast.web.app import create_app
from inkwell_cast.web.services.services import Services

from .shapes import torus

CHROMIUM = "/usr/bin/chromium"
QUIET = [
    "--disable-gpu",
    "--disable-quic",
    "--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE localhost, EXCLUDE 127.0.0.1",
]


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args):
    return {**browser_type_launch_args, "executable_path": CHROMIUM, "args": QUIET}


@pytest.fixture(scope="session")
def ring_files(tmp_path_factory):
    """A low and a high as an artist would have them."""
    folder = tmp_path_factory.mktemp("ring")
    write_mesh(folder / "ring_low.obj", torus(20, 10, name="ring_low"))
    write_mesh(folder / "ring_high.ply", torus(200, 100))
    return folder / "ring_low.obj", folder / "ring_high.ply"


@pytest.fixture(scope="session")
def shared_engine():
    engine = Lanes()
    yield engine
    engine.close()


@pytest.fixture
def services(tmp_path, shared_engine):
    made = Services(Store(tmp_path / "data"), shared_engine, max_upload=5_000_000)
    yield made
    made.store.close()


@contextlib.contextmanager
def running(services):
    """The address of a server over a services."""
    with socket.create_server(("127.0.0.1", 0)) as listener:
        config = uvicorn.Config(create_app(services), log_level="warning", timeout_graceful_shutdown=1)
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True)
        thread.start()
        while not server.started:
            time.sleep(0.01)
        yield f"http://127.0.0.1:{listener.getsockname()[1]}"
        server.should_exit = True
        with contextlib.suppress(RuntimeError):
            thread.join(timeout=5)


@pytest.fixture
def server(services):
    """The address of a server over `services`."""
    with running(services) as address:
        yield address
