"""What a process of the engine begins with. Whoever starts one imports nothing of what happens in it."""

import importlib
import signal
from multiprocessing.connection import Connection
from multiprocessing.synchronize import Event

from ..core.base.on_demand import importing
from .priority import Extent


def run(pipe: Connection, cancel: Event, niceness: int = 0, cluster: str = "", extent: Extent = "all") -> None:
    """Answer jobs from a pipe until it closes, see `worker.run`."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C goes to the server, which ends this process in order
    with importing():
        worker = importlib.import_module(".worker", __package__)
    worker.run(pipe, cancel, niceness, cluster, extent)
