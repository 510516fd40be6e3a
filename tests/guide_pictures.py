"""Makes the pictures of the guide's pages on flaws, from the demo pieces: `make pictures`.

Each shows both views of the product turned to a flaw, hatched where it was found.
"""

import asyncio
import pathlib
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from playwright.sync_api import Page, sync_playwright

from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.mesh import Mesh, subset
from inkwell_cast.core.mesh.normals import with_normals
from inkwell_cast.core.piece.piece import take
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.demo import gull, inkstand, troubled
from inkwell_cast.engine.lanes import Lanes
from inkwell_cast.store import Store
from inkwell_cast.web.services.services import Services

from .conftest import CHROMIUM, running
from .shapes import cube

FOLDER = pathlib.Path(__file__).parents[1] / "inkwell_cast" / "web" / "guide" / "pictures"
WIDE, HIGH, SHOWN = 1280, 640, 860  # the window, and how wide a picture is kept


@dataclass(frozen=True)
class Setup:
    """A piece and settings that show some flaws; `map` is what the views show."""

    causes: tuple[str, ...]
    meshes: tuple[Mesh, ...]
    recipe: dict[str, Any]
    map: str = "normal"


def _read(demo: Any) -> tuple[Mesh, ...]:
    with tempfile.TemporaryDirectory() as folder:
        return tuple(read_mesh(path) for path in demo.write(pathlib.Path(folder)))


def setups() -> Iterator[Setup]:
    low, high = _read(inkstand)
    figure = _read(gull)
    reach = {"unit": "scene", "outward": 2.5, "inward": 2.0}
    yield Setup(
        ("back", "overlap", "alone", "faceted", "hard_edge"),
        _read(troubled), {"reach": reach},
    )  # fmt: skip
    yield Setup(("outside",), (low, high), {"reach": reach | {"outward": 0.3, "inward": 0.3}})
    yield Setup(("inside",), (low, high), {"reach": reach, "pairing": {"together": True}})
    shade = {"reach": reach, "occlusion": {"occluders": "piece"}, "output": {"maps": ["normal", "occlusion"]}}
    yield Setup(("neighbour",), (low, high), shade, "occlusion")
    middle = high.positions[high.triangles].mean(axis=1)
    plate = high.objects == high.object_names.index("plate_high")
    hole = plate & (np.linalg.norm(middle - middle[plate].mean(axis=0), axis=1) < 6)
    yield Setup(("missed",), (low, subset(high, ~hole)), {"reach": reach})
    wide = {"unit": "scene", "outward": 4.0, "inward": 5.0}
    yield Setup(("other", "wavy"), figure, {"reach": wide})
    yield Setup(("seam",), figure, {"reach": wide | {"directions": "split"}, "normals": {"mode": "seams"}})
    rest = take(high, ("pen_rest_high",))
    used = rest.positions[rest.triangles].reshape(-1, 3)
    size, centre = np.ptp(used, axis=0), (used.max(axis=0) + used.min(axis=0)) / 2
    box = with_normals(cube(1.0))
    block = replace(box, positions=(box.positions * size + centre).astype(np.float32), name="pen_rest_low")
    yield Setup(("leaning",), (block, rest), {"reach": reach | {"outward": 1.0, "inward": 12.0}})


def piece_of(services: Services, setup: Setup) -> int:
    """A piece of a setup's meshes on the shelf, baked."""
    sheet = {"width": 1024, "height": 1024, "samples": 4, "adaptive": False}
    recipe = Recipe.model_validate({"sheet": sheet, "output": {"maps": ["normal"]}} | setup.recipe)

    async def taken() -> dict[str, str]:
        tokens = {}
        with tempfile.TemporaryDirectory() as folder:
            for mesh in setup.meshes:
                path = pathlib.Path(folder) / f"{pathlib.Path(mesh.name).stem}.glb"
                write_mesh(path, mesh)
                tokens[(await services.uploads.take_in(path.name, _chunks(path))).token] = ""
        return tokens

    piece_id = services.pieces.make("Piece", asyncio.run(taken()), recipe)
    bake_id = services.bakes.start(piece_id, False)
    while services.bakes.get(bake_id).open:
        time.sleep(0.2)
    return piece_id


async def _chunks(path: pathlib.Path):
    yield path.read_bytes()


def make(services: Services, page: Page, address: str, piece_id: int, setup: Setup) -> None:
    flaws = services.pieces.get(piece_id)[2][0].manifest.flaws
    page.goto(f"{address}/pieces/{piece_id}?step=review")
    page.wait_for_selector("#table[data-views=ready]", timeout=120_000)
    page.evaluate("document.getElementById('drawer').style.display = 'none'")
    if setup.map != "normal":
        page.locator("#map-choice").select_option(setup.map)
    for cause in setup.causes:
        number = next(n for n, flaw in enumerate(flaws) if flaw.cause == cause)
        summary = page.locator(".flaws .finding summary").nth(number)
        summary.click()
        page.wait_for_timeout(2500)
        shot = page.locator("#bench").screenshot()
        image = cv2.imdecode(np.frombuffer(shot, np.uint8), cv2.IMREAD_COLOR)
        small = cv2.resize(image, (SHOWN, round(image.shape[0] * SHOWN / image.shape[1])), interpolation=cv2.INTER_AREA)
        cv2.imwrite(str(FOLDER / f"flaw-{cause}.png"), small, [cv2.IMWRITE_PNG_COMPRESSION, 9])
        print(cause, flaws[number].title, flaws[number].part)
        summary.click()


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    engine = Lanes()
    with tempfile.TemporaryDirectory() as folder:
        services = Services(Store(pathlib.Path(folder)), engine)
        made = [(piece_of(services, setup), setup) for setup in setups()]
        with running(services) as address, sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--disable-gpu", "--disable-quic"])
            page = browser.new_page(viewport={"width": WIDE, "height": HIGH}, color_scheme="light")
            for piece_id, setup in made:
                make(services, page, address, piece_id, setup)
            browser.close()
        engine.close()
        services.store.close()


if __name__ == "__main__":
    main()
