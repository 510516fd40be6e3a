"""A server in a process of its own, that can be killed, and what must hold of its data folder afterwards."""

import os
import pathlib
import re
import signal
import subprocess
import sys
import time

import httpx

from inkwell_cast.core.bake.manifest import sha256_of
from inkwell_cast.store import Store, bakes, disk, meshes, pieces

LONGEST = 20.0  # seconds: what takes longer counts as a hang


class Server:
    """`inkwell-cast serve` over a data folder."""

    def __init__(self, data: pathlib.Path) -> None:
        command = [sys.executable, "-m", "inkwell_cast", "serve", "--port", "0", "--data", str(data)]
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        line = self.process.stdout.readline()
        found = re.search(r"http://127\.0\.0\.1:\d+", line)
        if not found:
            raise RuntimeError(f"the server did not start: {line} {self.process.stderr.read()[-2000:]}")
        self.address = found.group()
        # a connection that stood idle may be closed by the server just as it is used again, so each is used once
        once = httpx.Limits(max_keepalive_connections=0)
        self.client = httpx.Client(base_url=self.address, timeout=600, limits=once)

    def engine_id(self) -> int | None:
        """The process that bakes: the server's youngest child that is no resource tracker."""
        found = []
        for entry in pathlib.Path("/proc").glob("[0-9]*/stat"):
            try:
                fields = entry.read_text().rpartition(")")[2].split()
                words = (entry.parent / "cmdline").read_bytes()
            except OSError:
                continue
            if int(fields[1]) == self.process.pid and b"spawn_main" in words:
                found.append(int(entry.parent.name))
        return max(found, default=None)

    def kill(self) -> None:
        os.kill(self.process.pid, signal.SIGKILL)
        self.end()

    def kill_engine(self) -> None:
        found = self.engine_id()
        if found:
            os.kill(found, signal.SIGKILL)

    def stop(self) -> None:
        self.process.send_signal(signal.SIGINT)
        self.end()

    def end(self) -> None:
        try:
            self.process.wait(timeout=LONGEST)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
        self.client.close()
        self.process.stdout.close()
        self.process.stderr.close()

    # what a user does

    def upload(self, path: pathlib.Path) -> str:
        answer = self.client.put("/uploads", params={"name": path.name}, content=path.read_bytes())
        answer.raise_for_status()
        return str(answer.json()["token"])

    def make(self, name: str, paths: list[pathlib.Path], size: int = 64) -> str:
        """A piece of some files; gives its address."""
        roles = {self.upload(path): "" for path in paths}
        answer = self.client.post("/pieces", json={"name": name, "roles": roles})
        answer.raise_for_status()
        address = str(answer.json()["address"])
        fields = {"sheet.width": str(size), "sheet.height": str(size), "sheet.samples": "4"}
        self.client.post(f"{address}/settings/maps", data=fields).raise_for_status()
        return address

    def bake(self, address: str, wait: bool = True, **query: str) -> None:
        self.client.post(f"{address}/bake", params=query).raise_for_status()
        while wait and "bake-ended" not in self.client.get(f"{address}/progress").headers.get("HX-Trigger", ""):
            time.sleep(0.05)


def broken_in(data: pathlib.Path, wanted: dict[str, int]) -> list[str]:
    """What is not whole in a data folder that no program has open; `wanted` are pieces by name with their meshes."""
    wrong, store = list[str](), None
    try:
        store = Store(data)
        store.tidy()
        with store.reading() as db:
            fault = db.execute("PRAGMA integrity_check").fetchone()[0]
            if fault != "ok":
                wrong.append(f"the database: {fault}")
            there = {piece.name: piece for piece in pieces.all_of(db)}
            for name, count in wanted.items():
                if name not in there:
                    wrong.append(f"the piece {name} is gone")
                elif len(meshes.of_piece(db, there[name].id)) != count:
                    wrong.append(f"{name} has lost a mesh")
            for digest in disk.named(db):
                path = store.files.path(digest)
                if not path.is_file():
                    wrong.append(f"a file is gone: {digest[:12]}")
                elif sha256_of(path) != digest:
                    wrong.append(f"a file is not whole: {digest[:12]}")
            for piece in there.values():
                for row in bakes.of_piece(db, piece.id):
                    record = bakes.get(db, row.id)
                    if row.state == "done" and (record is None or record.manifest is None):
                        wrong.append(f"a finished bake of {piece.name} has no manifest")
    except Exception as error:
        wrong.append(f"{type(error).__name__}: {error}")
    finally:
        if store is not None:
            store.close()
    return wrong
