"""Processes that are stopped for a while, two programs on one folder, and little memory."""

import os
import pathlib
import resource
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable

from inkwell_cast.core.bake.manifest import sha256_of

from .kills import meshes_in
from .outcome import Outcome
from .server import LONGEST, Server

PROGRAM = [sys.executable, "-m", "inkwell_cast"]
LIMITS = (400, 900, 1600, 4000)  # MB of address space


def run(folder: pathlib.Path, seconds: float, seed: int) -> Outcome:
    """Stop the server, its engine and a command for some seconds; all must go on and give the same bytes."""
    outcome = Outcome("stops, two programs, little memory", 5 + len(LIMITS))
    files = meshes_in(folder)
    _server(folder, files, seconds, outcome)
    _command(folder, files, seconds, outcome)
    _beside(folder, files, outcome)
    for limit in LIMITS:
        _with_memory(folder, files, limit, outcome)
    return outcome


def _held(process: int, seconds: float) -> None:
    os.kill(process, signal.SIGSTOP)
    time.sleep(seconds)
    os.kill(process, signal.SIGCONT)


def _server(folder: pathlib.Path, files: list[pathlib.Path], seconds: float, outcome: Outcome) -> None:
    server, hashes = Server(folder / "data"), set[str]()
    try:
        address = server.make("ring", files, 256)
        for who in ("nobody", "engine", "server"):
            outcome.tries += 1
            server.client.post(f"{address}/bake").raise_for_status()
            time.sleep(0.4)
            process = {"engine": server.engine_id(), "server": server.process.pid}.get(who)
            if process:
                _held(process, seconds)
            began = time.monotonic()
            while "bake-ended" not in server.client.get(f"{address}/progress").headers.get("HX-Trigger", ""):
                time.sleep(0.05)
                if time.monotonic() - began > 6 * LONGEST:
                    outcome.failures.append(f"after a stop of the {who} the bake did not end")
                    return
            newest = server.client.get(f"{address}/bakes/1/manifest.json")
            newest.raise_for_status()
            bakes = [server.client.get(f"{address}/bakes/{n}/normal.file") for n in range(1, 4)]
            hashes |= {str(hash(answer.content)) for answer in bakes if answer.status_code == 200}
        if len(hashes) != 1:
            outcome.failures.append(f"stops gave {len(hashes)} different maps")
    finally:
        server.stop()


def _bake(
    files: list[pathlib.Path], out: pathlib.Path, before: Callable[[], None] | None = None
) -> subprocess.Popen[str]:
    command = [*PROGRAM, "bake", *map(str, files), "--out", str(out), "--size", "256", "--maps", "normal"]
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, preexec_fn=before)


def _command(folder: pathlib.Path, files: list[pathlib.Path], seconds: float, outcome: Outcome) -> None:
    hashes = set()
    for n in range(2):
        outcome.tries += 1
        child = _bake(files, folder / f"stopped{n}")
        if n:
            time.sleep(1.0)
            _held(child.pid, seconds)
        _, said = child.communicate(timeout=6 * LONGEST)
        if child.returncode:
            outcome.failures.append(f"a stopped command: {said[-200:]}")
            continue
        hashes.add(sha256_of(folder / f"stopped{n}" / "normal.png"))
    if len(hashes) > 1:
        outcome.failures.append("a stopped command gave another map")


def _beside(folder: pathlib.Path, files: list[pathlib.Path], outcome: Outcome) -> None:
    """`run` over a folder of meshes that a server reads and bakes at the same time."""
    outcome.tries += 1
    server, out, shelf = Server(folder / "beside"), folder / "handed", folder / "shelf"
    (shelf / "ring").mkdir(parents=True)
    for path in files:
        shutil.copy(path, shelf / "ring")
    (folder / "small.json").write_text('{"sheet": {"width": 128, "height": 128}}')
    try:
        address = server.make("ring", files, 128)
        baker = threading.Thread(target=server.bake, args=(address,))
        baker.start()
        command = [*PROGRAM, "run", str(shelf), "--out", str(out), "--recipe", str(folder / "small.json")]
        done = subprocess.run(command, capture_output=True, text=True, timeout=600)
        baker.join(6 * LONGEST)
        if done.returncode or baker.is_alive():
            outcome.failures.append(f"run beside a server: {done.returncode} {done.stderr[-300:]}")
        if not list(out.rglob("manifest.json")):
            outcome.lost.append("run beside a server handed nothing off")
    finally:
        server.stop()


def _with_memory(folder: pathlib.Path, files: list[pathlib.Path], limit: int, outcome: Outcome) -> None:
    """A bake with an upper bound on its address space ends well, or says so in words, and leaves nothing half."""
    outcome.tries += 1
    size, out = limit << 20, folder / f"limit{limit}"
    child = _bake(files, out, lambda: resource.setrlimit(resource.RLIMIT_AS, (size, size)))
    _, said = child.communicate(timeout=10 * LONGEST)
    if child.returncode == 0:
        return
    if "Traceback" in said and "MemoryError" not in said:
        outcome.failures.append(f"{limit} MB: {said[-300:]}")
    if (out / "manifest.json").exists():
        outcome.lost.append(f"{limit} MB: a manifest stands beside a bake that failed")
