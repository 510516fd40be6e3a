"""Makes the pictures of the guide from the demo pieces: `make pictures`, or with `flaws` or `maps` for some of them.

Those of flaws show both views of the product turned to one, hatched where it was found; those of maps, which stand in
step Maps too, the model in that map alone.
"""

import asyncio
import pathlib
import sys
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
from inkwell_cast.demo import gull, inkstand, lantern, token, troubled
from inkwell_cast.demo.pieces import pieces
from inkwell_cast.engine.lanes import Lanes
from inkwell_cast.store import Store
from inkwell_cast.web.services.services import Services
from tests.conftest import CHROMIUM, running
from tests.shapes import cube

FOLDER = pathlib.Path(__file__).parents[2] / "inkwell_cast" / "web" / "guide" / "pictures"
BARE = "#drawer, .view-head, .readout, #model > :not(canvas, .flaw-numbers) { display: none !important; }"
SHOW_MAP = "async (key) => (await import('/static/page/bake_shown.js')).showMap(key)"
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
        ("back", "overlap", "alone", "faceted", "hard_edge", "cracked", "folded", "strained"),
        _read(troubled),
        {"reach": reach},
    )
    yield Setup(("outside",), (low, high), {"reach": reach | {"outward": 0.3, "inward": 0.3}})
    yield Setup(("inside",), (low, high), {"reach": reach, "pairing": {"together": True}})
    shade = {"reach": reach, "occlusion": {"occluders": "piece"}, "output": {"maps": ["normal", "occlusion"]}}
    yield Setup(("neighbour",), (low, high), shade, "occlusion")
    middle = high.positions[high.triangles].mean(axis=1)
    plate = high.objects == high.object_names.index("plate_high")
    hole = plate & (np.linalg.norm(middle - middle[plate].mean(axis=0), axis=1) < 6)
    yield Setup(("missed",), (low, subset(high, ~hole)), {"reach": reach})
    wide = {"unit": "scene", "outward": 4.0, "inward": 5.0}
    yield Setup(("other", "farther", "wavy"), figure, {"reach": wide})
    yield Setup(("seam",), figure, {"reach": wide | {"directions": "split"}, "normals": {"mode": "seams"}})
    rest = take(high, ("pen_rest_high",))
    used = rest.positions[rest.triangles].reshape(-1, 3)
    size, centre = np.ptp(used, axis=0), (used.max(axis=0) + used.min(axis=0)) / 2
    box = with_normals(cube(1.0))
    block = replace(box, positions=(box.positions * size + centre).astype(np.float32), name="pen_rest_low")
    yield Setup(("leaning",), (block, rest), {"reach": reach | {"outward": 1.0, "inward": 12.0}})


@dataclass(frozen=True)
class Worn:
    """A demo piece in some maps, with settings by group; without a title a box on its own."""

    title: str
    maps: tuple[str, ...]
    settings: dict[str, Any]
    nearer: int = 0  # steps


WORN = (
    Worn(
        lantern.TITLE,
        (
            "normal",
            "normal_object",
            "bent",
            "occlusion",
            "sheet_occlusion",
            "curvature",
            "cavity",
            "height",
            "thickness",
            "position",
            "ids",
            "color",
            "emission",
            "glow",
            "light",
            "directional",
        ),
        {
            "occlusion": {"occluders": "piece"},
            "glow": {"rays": 64, "denoise": True},
            "light": {"rays": 64, "denoise": True, "sun": 0.8, "sky": 0.2, "sun_color": "#ffe2b8", "white": 1.3},
        },
    ),
    Worn("", ("rounded",), {"pairing": {"alone": True}, "rounded": {"radius": 6}}),
    Worn(inkstand.TITLE, ("floaters", "decals"), {"decals": {"border": 3}}, 1),
    Worn(token.TITLE, ("displacement",), {}),
)
SMALL = (260, 195)  # of a map's picture


def worn_piece(services: Services, worn: Worn) -> int:
    """A demo piece on the shelf, baked with some maps."""
    demo = next((piece for piece in pieces() if piece.title == worn.title), None)
    recipe = (demo.recipe if demo else Recipe()).model_dump()
    recipe["sheet"] |= {"width": 512, "height": 512, "samples": 4}
    recipe["output"]["maps"] = list(worn.maps)
    for group, settings in worn.settings.items():
        recipe[group] |= settings
    meshes = _read(demo) if demo else (replace(cube(), name="box_low"),)
    return baked(services, meshes, Recipe.model_validate(recipe))


def make_worn(page: Page, address: str, piece_id: int, worn: Worn) -> None:
    """The pictures of some maps."""
    page.goto(f"{address}/pieces/{piece_id}?step=maps&plain")
    page.wait_for_selector("#table[data-views=ready]", timeout=120_000)
    page.evaluate("document.getElementById('drawer').style.display = 'none'")
    page.locator("#model canvas").focus()
    page.keyboard.press("l")
    for _ in range(worn.nearer):
        page.keyboard.press("+")
    page.evaluate("document.activeElement.blur()")
    for key in worn.maps:
        page.evaluate(SHOW_MAP, key)
        page.wait_for_timeout(2500)
        picture = cv2.imdecode(np.frombuffer(page.locator("#model canvas").screenshot(), np.uint8), cv2.IMREAD_COLOR)
        height, width = picture.shape[:2]
        wide = min(width, height * SMALL[0] // SMALL[1])
        high = wide * SMALL[1] // SMALL[0]
        cut = picture[(height - high) // 2 :, (width - wide) // 2 :][:high, :wide]
        small = cv2.resize(cut, SMALL, interpolation=cv2.INTER_AREA)
        cv2.imwrite(str(FOLDER / f"map-{key}.png"), small, [cv2.IMWRITE_PNG_COMPRESSION, 9])
        print(key)


def piece_of(services: Services, setup: Setup) -> int:
    """A piece of a setup's meshes on the shelf, baked."""
    sheet = {"width": 1024, "height": 1024, "samples": 4, "adaptive": False}
    return baked(
        services, setup.meshes, Recipe.model_validate({"sheet": sheet, "output": {"maps": ["normal"]}} | setup.recipe)
    )


def baked(services: Services, meshes: tuple[Mesh, ...], recipe: Recipe) -> int:
    """A piece of some meshes on the shelf, baked."""

    async def taken() -> dict[str, str]:
        tokens = {}
        with tempfile.TemporaryDirectory() as folder:
            for mesh in meshes:
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


def make(page: Page, address: str, piece_id: int, setup: Setup) -> None:
    """The pictures of a setup's causes: of flaws as step Review shows them, of what only checks find as step Meshes."""
    left = list(setup.causes)
    for step in ("review", "meshes"):
        page.goto(f"{address}/pieces/{piece_id}?step={step}&plain")
        page.wait_for_selector("#table[data-views=ready]", timeout=120_000)
        page.add_style_tag(content=BARE)
        page.wait_for_timeout(4000)  # what is found stands there
        page.evaluate(SHOW_MAP, setup.map)
        for cause in list(left):
            found = page.locator(".finding summary", has_text=_title(cause)).first
            if found.count():
                found.click()
                page.wait_for_timeout(2500)
                _keep(page.locator("#bench").screenshot(), FOLDER / f"flaw-{cause}.png")
                left.remove(cause)
                found.click()
        if left:
            print(f"not in {step}:", *left, "but", *page.locator(".finding summary b").all_inner_texts(), sep=", ")


def _title(cause: str) -> str:
    return (FOLDER.parent / f"flaw-{cause}.md").read_text().splitlines()[0].removeprefix("# ")


def _keep(shot: bytes, path: pathlib.Path) -> None:
    image = cv2.imdecode(np.frombuffer(shot, np.uint8), cv2.IMREAD_COLOR)
    small = cv2.resize(image, (SHOWN, round(image.shape[0] * SHOWN / image.shape[1])), interpolation=cv2.INTER_AREA)
    cv2.imwrite(str(path), small, [cv2.IMWRITE_PNG_COMPRESSION, 9])


def main() -> None:
    wanted = sys.argv[1:] or ["flaws", "maps"]
    FOLDER.mkdir(parents=True, exist_ok=True)
    engine = Lanes()
    with tempfile.TemporaryDirectory() as folder:
        services = Services(Store(pathlib.Path(folder)), engine)
        made = [(piece_of(services, setup), setup) for setup in setups()] if "flaws" in wanted else []
        wearing = [(worn_piece(services, worn), worn) for worn in WORN] if "maps" in wanted else []
        with running(services) as address, sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--disable-gpu", "--disable-quic"])
            page = browser.new_page(viewport={"width": WIDE, "height": HIGH}, color_scheme="light")
            for piece_id, setup in made:
                make(page, address, piece_id, setup)
            for piece_id, worn in wearing:
                make_worn(page, address, piece_id, worn)
            browser.close()
        engine.close()
        services.store.close()


if __name__ == "__main__":
    main()
