"""kill -9 at random moments of everything that writes: nothing that was finished may be lost, nothing half may stay."""

import contextlib
import pathlib
import random
import subprocess
import sys
import threading
import time

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.handoff.whole_or_nothing import is_unchanged

from ..shapes import torus
from .outcome import Outcome
from .server import LONGEST, Server, broken_in

STAGES = ("reading", "baking", "mending", "handing off", "deleting")
LATEST = {"reading": 0.6, "baking": 1.6, "mending": 2.5, "handing off": 1.2, "deleting": 0.15}  # seconds


def meshes_in(folder: pathlib.Path) -> list[pathlib.Path]:
    low, high = folder / "ring_low.obj", folder / "ring_high.ply"
    write_mesh(low, torus(24, 12, name="ring_low"))
    write_mesh(high, torus(400, 200, small=0.72))
    return [low, high]


def run(folder: pathlib.Path, tries: int, seed: int) -> Outcome:
    """Kill the server, or its engine, `tries` times in every stage."""
    outcome, chance = Outcome("kills of server and engine", len(STAGES)), random.Random(seed)
    files = meshes_in(folder)
    for stage in STAGES:
        data, hands = folder / stage.replace(" ", "_"), folder / f"{stage.replace(' ', '_')}_out"
        server = Server(data)
        address = server.make("kept", files)
        server.bake(address)
        for n in range(tries):
            outcome.tries += 1
            of_engine, delay = chance.random() < 0.4, chance.random() * LATEST[stage]
            worker = threading.Thread(target=_quietly, args=(_do, server, stage, address, files, hands, n))
            worker.start()
            time.sleep(delay)
            if of_engine:
                server.kill_engine()
            else:
                server.kill()
            worker.join(timeout=LONGEST)
            if worker.is_alive():
                outcome.failures.append(f"{stage} {n}: hung after a kill")
            if of_engine:
                _must_go_on(server, address, outcome, f"{stage} {n}")
                server.stop()
            outcome.lost += [f"{stage} {n}: {what}" for what in broken_in(data, {"kept": 2})]
            if (hands / "manifest.json").exists() and not is_unchanged(hands / "manifest.json"):
                outcome.lost.append(f"{stage} {n}: a handoff is not whole")
            if any(path.name.startswith(".inkwell-") for path in folder.iterdir()) and stage != "handing off":
                outcome.failures.append(f"{stage} {n}: something temporary was left")
            server = Server(data)
        server.stop()
    return outcome


def _must_go_on(server: Server, address: str, outcome: Outcome, where: str) -> None:
    """After its engine was killed the server answers, and bakes again."""
    try:
        started = time.monotonic()
        assert server.client.get(address).status_code == 200
        server.bake(address, proof="true")
        if time.monotonic() - started > LONGEST:
            outcome.failures.append(f"{where}: slow to go on")
    except Exception as error:
        outcome.failures.append(f"{where}: {type(error).__name__}: {error}")


def _do(server: Server, stage: str, address: str, files: list[pathlib.Path], hands: pathlib.Path, n: int) -> None:
    if stage == "reading":
        server.make(f"more {n}", files)
    elif stage == "baking":
        server.bake(address)
    elif stage == "mending":
        server.client.post(f"{address}/mend-all")
        server.bake(address)
    elif stage == "handing off":
        bake = server.client.get(f"{address}/state").json()["facts"]["id"]
        server.client.post(f"{address}/handoff", data={"bake": bake, "place": str(hands), "existing": "replace"})
    else:
        server.bake(address, proof="true")
        bake = server.client.get(f"{address}/state").json()["facts"]["id"]
        server.client.post(f"{address}/bakes/{bake}/out")
        server.client.post("/disk/empty")


def _quietly(work, *arguments) -> None:  # type: ignore[no-untyped-def]
    with contextlib.suppress(Exception):  # the server was killed under it
        work(*arguments)


def run_command(folder: pathlib.Path, tries: int, seed: int) -> Outcome:
    """Kill a command-line bake after it began to write: files of before stay whole, new ones are whole or absent."""
    outcome, chance = Outcome("kills of a command-line bake", 1), random.Random(seed)
    files, out = meshes_in(folder), folder / "maps"
    command = [
        sys.executable,
        "-m",
        "inkwell_cast",
        "bake",
        *map(str, files),
        "--out",
        str(out),
        "--size",
        "512x512",
        "--maps",
        "normal,height,occlusion,curvature,emission,directional",
        "--set",
        "occlusion.rays=4",
    ]
    subprocess.run(command, check=True, capture_output=True)
    for n in range(tries):
        outcome.tries += 1
        before = {path.name: path.stat().st_mtime_ns for path in out.iterdir()}
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
            while process.poll() is None and before == {p.name: p.stat().st_mtime_ns for p in out.glob("[!.]*")}:
                time.sleep(0.005)
            time.sleep(chance.random() * 0.3)
            process.kill()
        for name in ("normal.png", "height.png", "occlusion.png", "curvature.png"):
            data = (out / name).read_bytes() if (out / name).is_file() else b""
            if not data.endswith(b"IEND\xaeB`\x82"):
                outcome.lost.append(f"try {n}: {name} is not whole")
        for left in out.glob(".*"):
            left.unlink()
    return outcome
