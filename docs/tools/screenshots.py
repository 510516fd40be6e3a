"""Makes the pictures of docs/screenshots from the demo data: `make screenshots`, or with names for some of them."""

import asyncio
import pathlib
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from playwright.sync_api import Browser, Page, sync_playwright

from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.demo import inkstand
from inkwell_cast.engine.lanes import Lanes
from inkwell_cast.store import Store
from inkwell_cast.web.serve import add_demo
from inkwell_cast.web.services.services import Services
from tests.conftest import CHROMIUM, running

FOLDER = pathlib.Path(__file__).parents[1] / "screenshots"
SLOW = 300_000
TROUBLED, TOKEN, GULL, LANTERN, INKSTAND = 1, 2, 3, 4, 5
MAPS = ["normal", "occlusion", "cavity", "thickness", "curvature", "height", "ids"]


class Studio:
    """The demo's shelf in a browser, and what pictures are made with."""

    def __init__(self, services: Services, address: str, browser: Browser, files: list[pathlib.Path]) -> None:
        self.services, self.address, self.browser, self.files = services, address, browser, files
        self.out = pathlib.Path(tempfile.gettempdir()) / "quillhaven"

    def set(self, piece: int, change: Callable[[dict], None]) -> None:
        given = self.services.pieces.get(piece)[0].recipe.model_dump()
        change(given)
        self.services.settings.change(piece, "Settings", lambda _: Recipe.model_validate(given))

    def bake(self, piece: int, proof: bool = False) -> None:
        bake = self.services.bakes.start(piece, proof)
        while self.services.bakes.get(bake).open:
            time.sleep(0.2)

    @contextmanager
    def page(self, path: str, name: str, dark: bool = False) -> Iterator[Page]:
        """A page, whose picture is taken when all is done with it."""
        page = self.browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="dark" if dark else "light")
        page.set_default_timeout(SLOW)
        page.goto(self.address + path)
        if "/pieces/" in path:
            page.wait_for_selector("#table[data-views=ready]")
            page.wait_for_selector("body:is([data-live=current], [data-live=off])")
        yield page
        page.wait_for_timeout(1200)
        page.screenshot(path=FOLDER / f"{name}.png")
        page.close()


def at(page: Page, x: float, y: float, view: str = "model") -> tuple[float, float]:
    """A place in a view, from shares of its width and height."""
    box = page.locator(f"#{view}").bounding_box()
    return box["x"] + x * box["width"], box["y"] + y * box["height"]


def full_maps(given: dict) -> None:
    given["output"]["maps"] = MAPS
    given["sheet"] |= {"width": 1024, "height": 1024}
    given["handoff"]["packs"] = [
        {
            "name": "masks",
            "red": {"map": "occlusion"},
            "green": {"map": "cavity", "invert": True},
            "blue": {"map": "thickness"},
        }
    ]


def new(studio: Studio) -> None:
    with studio.page("/new", "new") as page:
        page.wait_for_selector("#list[data-ready=yes]", state="attached")
        page.locator("#files").set_input_files([str(file) for file in studio.files])
        page.get_by_label("Role of").nth(1).wait_for()


def checks(studio: Studio) -> None:
    with studio.page(f"/pieces/{TROUBLED}?step=meshes", "checks") as page:
        page.locator(".finding summary", has_text="Overlapping islands").click()


def pairs(studio: Studio) -> None:
    with studio.page(f"/pieces/{INKSTAND}?step=meshes", "pairs") as page:
        page.wait_for_selector(".findings, #checks .held-line")
        row = page.locator(".pair-row summary").nth(5)
        row.scroll_into_view_if_needed()
        row.click()


def basis(studio: Studio) -> None:
    with studio.page(f"/pieces/{INKSTAND}?step=basis", "basis"):
        pass


def maps(studio: Studio) -> None:
    with studio.page(f"/pieces/{INKSTAND}?step=maps", "maps") as page:
        page.locator("#map-curvature > summary").click()
        page.locator("#map-choice").select_option("curvature")


def glow(studio: Studio) -> None:
    studio.bake(LANTERN)
    with studio.page(f"/pieces/{LANTERN}?step=maps", "glow") as page:
        page.locator("#map-glow > summary").click()
        page.locator("#map-glow").scroll_into_view_if_needed()
        page.locator("#map-choice").select_option("glow")


def review(studio: Studio) -> None:
    with studio.page(f"/pieces/{INKSTAND}?step=review", "review") as page:
        page.locator("[data-show=wipe]").click()


def handoff(studio: Studio) -> None:
    with studio.page(f"/pieces/{INKSTAND}?step=handoff", "handoff") as page:
        page.locator(".pack").scroll_into_view_if_needed()
        page.evaluate("document.getElementById('panel').scrollBy(0, 180)")


def sheets(studio: Studio) -> None:
    studio.set(INKSTAND, lambda given: given["sheet"].update(split="material"))
    studio.bake(INKSTAND, proof=True)
    with studio.page(f"/pieces/{INKSTAND}?step=maps", "sheets") as page:
        page.locator("table.sheets").scroll_into_view_if_needed()
        page.evaluate("document.getElementById('panel').scrollBy(0, 220)")
    studio.set(INKSTAND, lambda given: given["sheet"].update(split="one"))


def flaws(studio: Studio) -> None:
    with studio.page(f"/pieces/{TROUBLED}?step=review", "flaws") as page:
        page.locator(".flaws .finding summary", has_text="outside the cage").first.click()


def trial(studio: Studio) -> None:
    with studio.page(f"/pieces/{TROUBLED}?step=review", "trial") as page:
        page.locator(".flaws .finding summary", has_text="Hard edge").first.click()
        page.wait_for_timeout(600)
        page.keyboard.press("t")
        page.wait_for_selector("#trial")
        page.get_by_role("button", name="Wipe between before and now").click()
        page.wait_for_selector("#against:not([hidden])")
    with studio.page(f"/pieces/{TROUBLED}?step=review", "trial-after") as page:
        page.get_by_role("button", name="Take it back").click()
        page.wait_for_timeout(800)
    (FOLDER / "trial-after.png").unlink()


def mended(studio: Studio) -> None:
    with studio.page(f"/pieces/{TROUBLED}?step=review", "mended") as page:
        page.locator("#mend-all").click()
        page.wait_for_selector("#mended")


def relief(studio: Studio) -> None:
    studio.set(TOKEN, lambda given: given["sheet"].update(width=1024, height=1024))
    studio.bake(TOKEN)
    with studio.page(f"/pieces/{TOKEN}?step=maps", "relief") as page:
        page.locator("#map-displacement > summary").click()


def cage(studio: Studio) -> None:
    studio.set(GULL, lambda given: given["reach"].update(shape="fitted"))
    with studio.page(f"/pieces/{GULL}?step=cage", "cage") as page:
        page.wait_for_selector("#covered", state="attached")
        page.locator("#covered [data-place]").first.click()
        page.wait_for_timeout(2500)
    studio.set(GULL, lambda given: given["reach"].update(shape="even"))


def nudges(studio: Studio) -> None:
    studio.set(GULL, lambda given: given["reach"].update(outward=1.2, inward=1.5))
    with studio.page(f"/pieces/{GULL}?step=cage", "nudges") as page:
        page.wait_for_selector("#covered", state="attached")
        page.wait_for_timeout(2500)
        page.locator("#cage-by-hand > summary").click()
        page.locator("#brush-on").click()
        for height in (0.42, 0.5):
            page.mouse.move(*at(page, 0.42, height))
            page.mouse.down()
            for x in (0.45, 0.5, 0.55):
                page.mouse.move(*at(page, x, height))
            page.mouse.up()
            page.wait_for_timeout(3000)
        page.locator("#brush-on").scroll_into_view_if_needed()
    studio.set(GULL, lambda given: given.update(nudges=[], reach=given["reach"] | {"outward": 4.0, "inward": 5.0}))


def dark(studio: Studio) -> None:
    studio.set(GULL, lambda given: given["sheet"].update(width=1024, height=1024))
    studio.bake(GULL)
    with studio.page(f"/pieces/{GULL}?step=review", "dark", dark=True):
        pass


def shelf(studio: Studio) -> None:
    with studio.page("/", "shelf") as page:
        page.locator("#tick-all").click()
        for unwanted in (3, 2, 1):
            page.locator("input[name=piece]").nth(unwanted).uncheck()
        page.get_by_label("Receiver").select_option("Green down")
        page.get_by_label("Folder on this machine").fill(str(studio.out))
        page.get_by_role("button", name="Bake and hand off").click()
        page.locator("#batches", has_text="2 of 2 done").wait_for()
        page.locator(".cards:not(:has(img.lit[hidden]))").wait_for(timeout=60_000)
        page.locator("#batches").scroll_into_view_if_needed()


def disk(studio: Studio) -> None:
    for piece in (TROUBLED, TROUBLED, GULL):
        studio.bake(piece, proof=True)
    with studio.page("/disk", "disk"):
        pass


def guide(studio: Studio) -> None:
    with studio.page("/guide/index", "guide"):
        pass


BEFORE = {TROUBLED: True, INKSTAND: False}  # what is baked first, and whether as a proof
SHOTS = [
    new,
    checks,
    pairs,
    basis,
    maps,
    glow,
    review,
    handoff,
    flaws,
    trial,
    mended,
    relief,
    cage,
    nudges,
    dark,
    guide,
    sheets,
    shelf,
    disk,
]


def main(names: list[str]) -> None:
    FOLDER.mkdir(exist_ok=True)
    engine = Lanes()
    with tempfile.TemporaryDirectory() as folder:
        files = list(inkstand.write(pathlib.Path(folder)))
        services = Services(Store(pathlib.Path(folder) / "data"), engine)
        asyncio.run(add_demo(services))
        with running(services) as address, sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--disable-gpu", "--disable-quic"])
            studio = Studio(services, address, browser, files)
            studio.set(INKSTAND, full_maps)
            for piece, proof in BEFORE.items():
                studio.bake(piece, proof)
            for shot in SHOTS:
                if not names or shot.__name__ in names:
                    print(shot.__name__, flush=True)
                    shot(studio)
            browser.close()
        engine.close()
        services.store.close()


if __name__ == "__main__":
    main(sys.argv[1:])
