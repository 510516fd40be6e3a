"""Names that try to be more than names, in every place where names are shown, in a real browser."""

import pathlib
from dataclasses import replace

import numpy as np
from playwright.sync_api import Page, sync_playwright

from inkwell_cast.core.formats import write_mesh

from ..conftest import CHROMIUM, QUIET
from ..shapes import torus
from .outcome import Outcome
from .server import Server

NAMES = (
    '<img src=x onerror="window.harmed=1">',
    '"><script>window.harmed=1</script>',
    "'-window.harmed=1-'",
    "{{ 7 * 7 }} {% raw %} ${7*7}",
    "javascript:window.harmed=1",
    "\u202eturned\u202c over \u0301\u0301\u0301",
    "a" * 190,
    "../../../etc/passwd\\..\\..",
)
STEPS = ("meshes", "cage", "basis", "maps", "review", "handoff")


def run(folder: pathlib.Path, names: tuple[str, ...] = NAMES) -> Outcome:
    """A piece, its objects, materials, a bake and a receiver under each name; every step is opened."""
    outcome, server = Outcome("hostile names in a browser", len(names)), Server(folder / "data")
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=CHROMIUM, args=QUIET)
            for n, name in enumerate(names):
                outcome.tries += 1
                try:
                    _one(browser.new_page(), server, folder / str(n), name, outcome)
                except Exception as error:
                    outcome.failures.append(f"{name[:40]}: {type(error).__name__}: {str(error)[:200]}")
            browser.close()
    finally:
        server.stop()
    return outcome


def _one(page: Page, server: Server, folder: pathlib.Path, name: str, outcome: Outcome) -> None:
    folder.mkdir()
    files = [folder / "ring_low.obj", folder / "ring_high.ply"]
    low = torus(12, 6)
    parts = np.arange(len(low.triangles), dtype=np.int32) % 2
    write_mesh(
        files[0],
        replace(
            low, objects=parts, object_names=(f"{name}_low", "b_low"), materials=parts, material_names=(name, "plain")
        ),
    )
    write_mesh(files[1], torus(40, 20, small=0.72))
    address = server.make(name, files)
    server.client.post(f"{address}/settings/meshes", data={"pairing.together": "1"})
    server.bake(address)
    facts = server.client.get(f"{address}/state").json()["facts"]
    if facts:
        server.client.post(f"{address}/bakes/{facts['id']}/name", data={"name": name})
    server.client.post(f"{address}/library/materials", data={"name": name[:60]})
    server.client.post(f"{address}/receiver/keep", data={"name": name[:60], "does": name})
    page.on("dialog", lambda dialog: outcome.failures.append(f"{name[:40]}: a dialog opened") or dialog.dismiss())
    page.on("pageerror", lambda error: outcome.failures.append(f"{name[:40]}: {error}"))
    for path in ("/", "/disk", *(f"{address}?step={step}&plain" for step in STEPS)):
        answer = page.goto(f"{server.address}{path}")
        page.wait_for_timeout(150)
        if answer is None or answer.status != 200:
            outcome.failures.append(f"{name[:40]}: {path} was answered {answer.status if answer else None}")
        if page.evaluate("window.harmed"):
            outcome.failures.append(f"{name[:40]}: {path} ran it")
    page.close()
