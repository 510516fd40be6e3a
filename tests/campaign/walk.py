"""A random walk over pages, API and piece files, with audits: the same state must give the same bytes in a fresh process."""

import itertools
import json
import pathlib
import random
import re
import subprocess
import sys
import time

import httpx

from inkwell_cast.core.bake.manifest import sha256_of

from .kills import meshes_in
from .outcome import Outcome
from .server import LONGEST, Server, broken_in

EACH = 25  # steps between two audits
PAGES = (
    "",
    "/panel/meshes",
    "/panel/cage",
    "/panel/basis",
    "/panel/maps",
    "/panel/review",
    "/panel/handoff",
    "/drawer",
)
VALUES = (
    "",
    "0",
    "-1",
    "1",
    "2.5",
    "1e999",
    "nan",
    "inf",
    "9" * 40,
    "3 mm",
    "1/0",
    "<b>",
    "a" * 5000,
    "☃",
    "0x10",
    "true",
)
FIELDS = {
    "cage": ("reach.outward", "reach.inward", "reach.directions", "reach.shape", "reach.nothing"),
    "maps": ("sheet.samples", "sheet.padding", "output.depth", "occlusion.rays", "height.range", "ids.by"),
    "basis": ("basis.green", "basis.tangents", "normals.mode", "normals.angle"),
}
HUGE = str(2**63)
HOSTILE: tuple[tuple[str, str, dict[str, object]], ...] = (
    ("GET", f"/pieces/{HUGE}", {}),
    ("GET", f"/pieces/1/bakes/{HUGE}/facts", {}),
    ("GET", f"/pieces/1/panel/cage?first={HUGE}", {}),
    ("GET", f"/guide/{'a' * 300}", {}),
    ("GET", "/guide/..%2f..%2fetc%2fpasswd", {}),
    ("POST", "/pieces", {"content": b"\x00\xff\xfe", "headers": {"content-type": "application/json"}}),
    ("POST", "/pieces", {"content": b'{"name": "x", "roles": {"a": 1e999}}'}),
    ("POST", "/pieces/1/pockets", {"content": b'{"x": 1e999, "y": 0, "z": 0}'}),
    ("POST", "/pieces/1/nudges", {"json": {"kind": "out", "points": [[0, 0, 1e308]], "size": "1"}}),
    ("POST", "/pieces/1/inherit/cage", {"data": {"field": "nothing", "scope": "piece"}}),
    ("POST", "/pieces/1/mends/place", {"data": {"kind": "bake-9", "radius": "-1", "x": "0", "y": "0", "z": "nan"}}),
    ("GET", f"/pieces/1/section?triangle={HUGE}&x=0&y=0&z=0", {}),
    ("PUT", "/uploads?name=a.obj", {"content": b"v 0 0\nf 1 1 1\n" * 200}),
    ("PUT", "/pieces/open?name=a.icast", {"content": b"PK\x03\x04 no zip"}),
    ("PATCH", "/api/v1/pieces/1/settings", {"json": {"patch": [{"op": "replace", "path": "/nothing", "value": 1}]}}),
    ("GET", f"/api/v1/pieces?limit={HUGE}&offset=-1", {}),
    ("POST", "/api/v1/pieces/1/bakes", {"content": b"[" * 10_000}),
)


class Walk:
    """One server, one piece, and what is done to them."""

    def __init__(self, folder: pathlib.Path, seed: int) -> None:
        self.folder, self.chance, self.outcome = folder, random.Random(seed), Outcome("random walk, audited")
        self.data, self.kept, self.audits = folder / "data", 1, 0
        self.server = Server(self.data)
        self.piece = self.server.make("kept", meshes_in(folder), 48)
        self.steps = (
            self.look,
            self.set,
            self.pocket,
            self.stroke,
            self.undo,
            self.bake,
            self.mend,
            self.odd,
            self.copy,
        )
        self.outcome.cases = len(self.steps) + len(HOSTILE)

    def ask(self, method: str, path: str, **sent: object) -> httpx.Response:
        """A request that must be answered soon, and without a bare error."""
        began = time.monotonic()
        answer = self.server.client.request(method, path, **sent)
        spent = time.monotonic() - began
        where = f"{method} {path[:80]}"
        if answer.status_code >= 500:
            self.outcome.failures.append(f"{where}: {answer.status_code} {answer.text[:200]}")
        elif answer.status_code >= 400 and not _has_words(answer):
            self.outcome.failures.append(f"{where}: {answer.status_code} without words: {answer.text[:200]}")
        if len(answer.text) > 4000 and answer.status_code >= 400:
            self.outcome.failures.append(f"{where}: a refusal of {len(answer.text):,} letters")
        if spent > LONGEST:
            self.outcome.failures.append(f"{where}: {spent:.0f} s")
        return answer

    def keys(self, kind: str, step: str) -> list[str]:
        found = re.findall(rf"/{kind}/([0-9a-f]{{12}})/out", self.ask("GET", f"{self.piece}/panel/{step}").text)
        return [*dict.fromkeys(found), "0" * 12]  # the last one is not there

    # what is done

    def look(self) -> None:
        self.ask("GET", self.chance.choice(("/", "/disk", "/guide", self.piece + self.chance.choice(PAGES))))

    def set(self) -> None:
        step = self.chance.choice(list(FIELDS))
        given = {self.chance.choice(FIELDS[step]): self.chance.choice(VALUES)}
        self.ask("POST", f"{self.piece}/settings/{step}", data=given, headers=self.shown())

    def shown(self) -> dict[str, str]:
        """What a page says it shows: nothing, the newest state, or one long gone."""
        return self.chance.choice(({}, {"x-shown-step": str(self.chance.randrange(6)), "x-tab": "t"}))

    def pocket(self) -> None:
        if self.chance.random() < 0.5:
            place = {axis: self.chance.uniform(-3, 3) for axis in "xyz"}
            self.ask("POST", f"{self.piece}/pockets", json=place)
            return
        address = f"{self.piece}/pockets/{self.chance.choice(self.keys('pockets', 'cage'))}"
        if self.chance.random() < 0.5:
            self.ask("POST", f"{address}/out", headers=self.shown())
        else:
            self.ask("POST", address, data={"radius": self.chance.choice(VALUES)}, headers=self.shown())

    def stroke(self) -> None:
        at = [[self.chance.uniform(-3, 3) for _ in "xyz"] for _ in range(3)]
        kind = self.chance.choice(("out", "in", "smooth", "erase", "straighten", "?"))
        given = {"kind": kind, "points": at, "size": "4", "move": "0.5", "strength": "0.5", "falloff": "0.5"}
        self.ask("POST", f"{self.piece}/nudges", json=given | {"mirror": self.chance.choice(("none", "x"))})

    def undo(self) -> None:
        self.ask("POST", f"{self.piece}/step-back", params={"step": "cage", "by": self.chance.choice((-1, 1, 1, 40))})

    def bake(self) -> None:
        if self.ask("POST", f"{self.piece}/bake", params={"proof": "true"}).status_code < 400:
            self.wait()

    def wait(self) -> None:
        until = time.monotonic() + 300
        while "bake-ended" not in self.ask("GET", f"{self.piece}/progress").headers.get("HX-Trigger", ""):
            if time.monotonic() > until:
                self.outcome.failures.append("a bake did not end")
                return
            time.sleep(0.05)

    def mend(self) -> None:
        mends = self.keys("mends", "review")
        if self.chance.random() < 0.5:
            newest = re.findall(r"/bakes/(\d+)/flaws/0/mend", self.ask("GET", f"{self.piece}/panel/review").text)
            for bake in newest[:1]:
                self.ask("POST", f"{self.piece}/bakes/{bake}/flaws/0/mend")
        else:
            self.ask("POST", f"{self.piece}/mends/{self.chance.choice(mends)}/switch", params={"on": "false"})

    def odd(self) -> None:
        method, path, sent = self.chance.choice(HOSTILE)
        self.ask(method, path, **sent)

    def copy(self) -> None:
        """The piece out as a file and in again, and the copy deleted."""
        held = self.ask("GET", f"{self.piece}/piece.icast")
        opened = self.ask("PUT", "/pieces/open", params={"name": "copy.icast"}, content=held.content)
        if opened.status_code < 400:
            self.ask("POST", f"{json.loads(opened.text)['address']}/delete")

    # what must hold

    def audit(self) -> None:
        """The newest bake equals one of a fresh process, byte for byte; then the folder is looked at with all closed."""
        self.audits += 1
        made = self.ask("POST", f"{self.piece}/bake")
        if made.status_code < 400:
            self.wait()
            newest = re.findall(r"/bakes/(\d+)/", self.ask("GET", f"{self.piece}/drawer").text)
            manifest = self.ask("GET", f"{self.piece}/bakes/{max(map(int, newest), default=0)}/manifest.json")
            held = self.folder / "held.icast"
            held.write_bytes(self.ask("GET", f"{self.piece}/piece.icast").content)
            if manifest.status_code == 200:
                self.same_bytes(held, manifest.json())
        self.server.stop()
        self.outcome.lost += [f"audit {self.audits}: {what}" for what in broken_in(self.data, {"kept": 2})]
        self.server = Server(self.data)

    def same_bytes(self, held: pathlib.Path, manifest: dict[str, object]) -> None:
        out = self.folder / f"fresh{self.audits}"
        command = [sys.executable, "-m", "inkwell_cast", "bake", str(held), "--out", str(out)]
        done = subprocess.run(command, capture_output=True, text=True, timeout=600)
        if done.returncode not in (0, 3):
            self.outcome.failures.append(f"audit {self.audits}: a fresh process said {done.stderr[-300:]}")
            return
        fresh = json.loads((out / "manifest.json").read_text())
        for own, other in itertools.zip_longest(manifest["maps"], fresh["maps"]):  # type: ignore[arg-type, call-overload]
            if other is None or own["sha256"] != sha256_of(out / other["file"]):
                self.outcome.failures.append(f"audit {self.audits}: {own['key']} has other bytes in a fresh process")


def _has_words(answer: httpx.Response) -> bool:
    """Whether a refusal says what is wrong: JSON with an error or a detail, or a page."""
    if "json" in answer.headers.get("content-type", ""):
        told = answer.json()
        return bool(told.get("error") or told.get("detail")) if isinstance(told, dict) else False
    return len(re.sub(r"<[^>]*>", " ", answer.text).split()) > 2


def run(folder: pathlib.Path, steps: int, seed: int) -> Outcome:
    walk = Walk(folder, seed)
    try:
        for n in range(1, steps + 1):
            walk.outcome.tries += 1
            walk.chance.choice(walk.steps)()
            if n % EACH == 0 or n == steps:
                walk.audit()
    finally:
        walk.server.stop()
    walk.outcome.notes.append(f"{walk.audits} audits, each with a bake of a fresh process")
    return walk.outcome
