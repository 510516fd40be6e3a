"""What several test files share: marks by room, engines, data folders with a piece in them, a running server."""

import asyncio
import contextlib
import pathlib
import shutil
import socket
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import hypothesis
import pytest
import uvicorn

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
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
HERE = pathlib.Path(__file__).parent
SLOW_TESTS = HERE / "slow_tests.txt"  # by their names, those that took longer than `SLOW` when that was last measured
SLOW = 0.5  # seconds
ROOMS = {path.name for path in (HERE / "core").iterdir() if (path / "__init__.py").exists()}


# a machine at work on something else fails no property; nothing here asserts a time
hypothesis.settings.register_profile("untimed", deadline=None)
hypothesis.settings.load_profile("untimed")


def pytest_addoption(parser):
    parser.addoption("--note-slow", action="store_true", help="write anew which tests are slow, for `make quick`")


def pytest_configure(config):
    for room in [*ROOMS, "core", "engine", "store", "web", "cli", "demo"]:
        config.addinivalue_line("markers", f"{room}: tests of {room}")
    if config.getoption("--note-slow"):
        config.pluginmanager.register(_Durations())


def pytest_collection_modifyitems(items):
    """Every test is marked by its room, in the browser or not, and as quick or slow."""
    slow = set(SLOW_TESTS.read_text(encoding="utf-8").splitlines())
    for item in items:
        first, *rest = item.path.relative_to(HERE).with_suffix("").parts
        for mark in (first if rest else "cli" if first.startswith("test_cli") else "house", *rest[:-1]):
            item.add_marker(mark)
        if "page" in getattr(item, "fixturenames", ()):
            item.add_marker("browser")
        is_quick = first == "core" and item.nodeid not in slow and not item.get_closest_marker("deep")
        item.add_marker("quick" if is_quick else "slow")


class _Durations:
    """Notes which tests take long."""

    def __init__(self):
        self.seconds = {}

    def pytest_runtest_logreport(self, report):
        self.seconds[report.nodeid] = self.seconds.get(report.nodeid, 0.0) + report.duration

    def pytest_sessionfinish(self):
        found = sorted(name for name, spent in self.seconds.items() if spent > SLOW and name.startswith("tests/core/"))
        SLOW_TESTS.write_text("\n".join(found) + "\n", encoding="utf-8")


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


async def _chunks(path):
    yield path.read_bytes()


def _awaited(work):
    """What a coroutine gives; in a thread of its own, since the browser's loop may run in this one."""
    with ThreadPoolExecutor(1) as thread:
        return thread.submit(asyncio.run, work).result()


QUICK = Recipe(sheet=Sheet(width=64, height=48, samples=1), output=Output(maps=["normal", "normal_object"]))
SHORT = QUICK.model_copy(update={"reach": Reach(outward=0.001, inward=0.001)})
PIECES = {  # by the fixture that wants one, the first that a test asks for: its name, its settings, whether it is baked
    "short": ("Ring <b>of</b> rope", SHORT, True),
    "facts": ("Ring <b>of</b> rope", QUICK, True),
    "piece": ("Ring <b>of</b> rope", QUICK, False),
    "ring": ("ring", Recipe(sheet=Sheet(width=64, height=64)), False),
}


@pytest.fixture(scope="session")
def data_folders(tmp_path_factory, ring_files, shared_engine):
    """Data folders with a piece of the ring's files, made once, to be copied; its drawings are in them."""
    made = {}
    for wanted, (name, recipe, is_baked) in PIECES.items():
        made[wanted] = tmp_path_factory.mktemp("data") / wanted
        services = Services(Store(made[wanted]), shared_engine)
        uploads = [_awaited(services.uploads.take_in(path.name, _chunks(path))) for path in ring_files]
        piece = services.pieces.make(name, {upload.token: "" for upload in uploads}, recipe)
        services.drawings.view(piece, "low")
        services.drawings.view(piece, "cage")
        services.drawings.view(piece, "sculpt", services.pieces.wanted(piece)[1][1].id)
        if is_baked:
            bake_id = services.bakes.start(piece, False)
            while services.bakes.get(bake_id).open:
                time.sleep(0.02)
        services.store.close()
    return made


@pytest.fixture
def services(request, tmp_path, shared_engine):
    """Services over a data folder of a test's own: empty, or with the piece that the test asks for by its fixture."""
    wanted = next((name for name in PIECES if name in request.fixturenames), None)
    if wanted:
        shutil.copytree(request.getfixturevalue("data_folders")[wanted], tmp_path / "data")
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
