"""Many proofs in a row, and many changes at once: memory and open files stay flat, no change is lost."""

import pathlib
import re
import threading

import httpx

from .kills import meshes_in
from .outcome import Outcome
from .server import Server

GROWTH = 1.25  # of the memory after the first proofs
FILES = 8  # open files more than then


def _facts(process_id: int) -> tuple[int, int]:
    """Resident kilobytes and open files of a process."""
    folder = pathlib.Path("/proc") / str(process_id)
    lines = (folder / "status").read_text().splitlines()
    return int(next(line.split()[1] for line in lines if line.startswith("VmRSS"))), len(
        list((folder / "fd").iterdir())
    )


def run_proofs(folder: pathlib.Path, proofs: int) -> Outcome:
    """Change the reach and make a proof, again and again."""
    outcome = Outcome("proofs in a row", 1)
    server = Server(folder / "data")
    try:
        address, first = server.make("ring", meshes_in(folder), 256), {}
        for n in range(proofs):
            outcome.tries += 1
            server.client.post(f"{address}/settings/cage", data={"reach.outward": f"{1 + n / proofs:.4f}"})
            server.bake(address, proof="true")
            now = {name: _facts(pid) for name, pid in (("server", server.process.pid), ("engine", server.engine_id()))}
            if n == min(20, proofs // 3):
                first = now
        for name, (memory, files) in now.items():
            outcome.notes.append(f"{name} {first[name][0] / 1000:.0f} to {memory / 1000:.0f} MB, {files} open files")
            if memory > GROWTH * first[name][0] or files > first[name][1] + FILES:
                outcome.failures.append(f"the {name} grew from {first[name]} to {(memory, files)}")
        page = server.client.get(f"{address}/drawer?all=true").text
        if page.count("data-compare") != proofs:
            outcome.lost.append(f"{proofs - page.count('data-compare')} proofs are not in the history")
    finally:
        server.stop()
    return outcome


def run_tabs(folder: pathlib.Path, changes: int) -> Outcome:
    """Two tabs and several programs change one piece at once."""
    outcome = Outcome("changes at once", 1, changes)
    server = Server(folder / "data")
    try:
        address = server.make("ring", meshes_in(folder))

        def add(n: int) -> None:
            place = {"x": n, "y": 0, "z": 0}
            answer = httpx.post(f"{server.address}{address}/pockets", json=place, timeout=120)
            if answer.status_code != 200:
                outcome.failures.append(f"change {n} was answered {answer.status_code}")

        threads = [threading.Thread(target=add, args=(n,)) for n in range(changes)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        kept = len(re.findall(r"/pockets/\d+/out", server.client.get(f"{address}/panel/cage").text))
        if kept < changes:
            outcome.lost.append(f"{changes - kept} of {changes} pockets")
        second = None
        try:
            second = Server(folder / "data")
            outcome.failures.append("two programs have one data folder open")
        except RuntimeError:
            pass
        finally:
            if second:
                second.stop()
    finally:
        server.stop()
    return outcome
