"""A disk that fills up at each stage and gets room again, and targets that cannot be written."""

import contextlib
import pathlib
import subprocess
import time

from .kills import meshes_in
from .outcome import Outcome
from .server import Server, broken_in

SIZE = 80 << 20
STAGES = ("upload", "bake", "handoff", "settings")


@contextlib.contextmanager
def small_disk(folder: pathlib.Path, size: int = SIZE):  # type: ignore[no-untyped-def]
    """A disk of its own in memory; gives None where this machine does not let one be mounted."""
    folder.mkdir(parents=True)
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={size}", "none", str(folder)], capture_output=True)
    if done.returncode:
        yield None
        return
    try:
        yield folder
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=False)


def fill(folder: pathlib.Path) -> pathlib.Path:
    """Take all that is left of a disk."""
    path = folder / "ballast"
    with contextlib.suppress(OSError), path.open("wb") as file:
        while True:
            file.write(b"x" * (1 << 16))
            file.flush()
    with contextlib.suppress(OSError), (folder / "ballast2").open("wb") as file:
        while True:
            file.write(b"x")
            file.flush()
    return path


def empty(folder: pathlib.Path) -> None:
    for name in ("ballast", "ballast2"):
        (folder / name).unlink(missing_ok=True)


def run(folder: pathlib.Path, rounds: int) -> Outcome:
    """Fill the disk of the data folder at each stage, see that the right words come, make room, and go on."""
    outcome = Outcome("full disk, with room coming back", len(STAGES))
    files = meshes_in(folder)
    with small_disk(folder / "disk") as place:
        if place is None:
            outcome.notes.append("no disk could be mounted here; not tried")
            return outcome
        for n in range(rounds):
            for stage in STAGES:
                outcome.tries += 1
                _one(place / f"data{n}{stage}", place, folder, stage, files, outcome)
    return outcome


def _one(data, place, folder, stage, files, outcome) -> None:  # type: ignore[no-untyped-def]
    server, where = Server(data), f"{stage}"
    try:
        address = server.make("kept", files)
        server.bake(address)
        if stage == "upload":
            fill(place)
            answer = server.client.put("/uploads", params={"name": files[1].name}, content=files[1].read_bytes())
            _told(answer, outcome, where)
        elif stage == "bake":
            server.bake(address, wait=False)
            fill(place)
            time.sleep(3)
        elif stage == "handoff":
            bake = server.client.get(f"{address}/state").json()["facts"]["id"]
            fill(place)
            _told(
                server.client.post(f"{address}/handoff", data={"bake": bake, "place": str(place / "out")}),
                outcome,
                where,
            )
            if (place / "out").exists():
                outcome.failures.append(f"{where}: half a handoff stayed")
        else:
            fill(place)
            answer = server.client.post(f"{address}/settings/maps", data={"sheet.width": "128"})
            if answer.status_code < 400 and server.client.get(f"{address}/panel/maps").text.count('value="128"') == 0:
                outcome.lost.append(f"{where}: a change was said to be made and is not there")
        empty(place)
        started = time.monotonic()
        second = server.make("second", files)
        server.bake(second)
        bake = server.client.get(f"{second}/state").json()["facts"]
        if not bake or time.monotonic() - started > 20:
            outcome.failures.append(f"{where}: did not go on when there was room")
        page = server.client.get(second).text
        if "second" not in page:
            outcome.failures.append(f"{where}: the answer of another job came")
    except Exception as error:
        outcome.failures.append(f"{where}: {type(error).__name__}: {error}")
    finally:
        empty(place)
        server.stop()
    outcome.lost += [f"{where}: {what}" for what in broken_in(data, {"kept": 2})]


def _told(answer, outcome, where) -> None:  # type: ignore[no-untyped-def]
    if answer.status_code not in (422, 507) or "error" not in answer.json():
        outcome.failures.append(f"{where}: answered {answer.status_code} {answer.text[:200]}")


def run_read_only(folder: pathlib.Path) -> Outcome:
    """Handoffs and batches into a disk that cannot be written."""
    outcome = Outcome("read-only targets", 2)
    files = meshes_in(folder)
    with small_disk(folder / "locked") as place:
        if place is None:
            outcome.notes.append("no disk could be mounted here; not tried")
            return outcome
        subprocess.run(["mount", "-o", "remount,ro", str(place)], check=True)
        server = Server(folder / "data")
        try:
            address = server.make("kept", files)
            server.bake(address)
            bake = server.client.get(f"{address}/state").json()["facts"]["id"]
            outcome.tries += 2
            _told(
                server.client.post(f"{address}/handoff", data={"bake": bake, "place": str(place / "out")}),
                outcome,
                "handoff",
            )
            piece = address.rpartition("/")[2]
            answer = server.client.post(
                "/batches", data={"piece": piece, "receiver": "green down", "place": str(place / "b")}
            )
            if answer.status_code != 200 or "problem" not in answer.text:
                outcome.failures.append(f"batch: answered {answer.status_code}")
        finally:
            server.stop()
    return outcome
