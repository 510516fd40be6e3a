"""What tests in the browser do again and again."""

import re

import cv2
import numpy as np
from playwright.sync_api import Page, expect

DIFFERS = 4  # of 255: what a picture of the model changes by where it is another
SLOW = 180_000  # milliseconds: on a busy machine full bakes give way to all else


def make_piece(page: Page, server: str, ring_files) -> None:
    page.goto(f"{server}/")
    expect(page.get_by_role("heading", name="The shelf is empty")).to_be_visible()
    page.get_by_role("link", name="New piece").last.click()
    expect(page.get_by_role("button", name="Make the piece")).to_be_disabled()
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    page.locator("#files").set_input_files([str(path) for path in ring_files])
    for path in ring_files:
        expect(page.get_by_label(f"Role of {path.name}")).to_have_value("", timeout=SLOW)
    page.get_by_role("button", name="Make the piece").click()
    page.wait_for_url(re.compile(r"/pieces/\d+"))
    page.goto(page.url.split("?")[0] + "?step=cage&plain")
    ready(page)


def open_ring(page: Page, ring: str) -> None:
    """The page of the piece that the fixture `ring` gives, at the step Cage."""
    page.goto(f"{ring}?step=cage&plain")
    ready(page)


def ready(page: Page) -> None:
    expect(page.locator("#table")).to_have_attribute("data-views", "ready", timeout=SLOW)


def unfold(page: Page, name: str) -> None:
    """Open a fold of the panel by its id."""
    page.locator(f"#{name} > summary").click()


def set_size(page: Page, width: int, height: int) -> None:
    page.get_by_role("link", name="Maps").click()
    for name, value in (("sheet.width", width), ("sheet.height", height)):
        page.locator(f"input[name='{name}']").fill(str(value))
        page.locator(f"input[name='{name}']").press("Tab")
    page.wait_for_timeout(300)
    expect(page.locator("#full-bake")).to_have_attribute("title", re.compile(f"^{width} × {height};"))


def settled(page: Page, act) -> None:
    with page.expect_response(lambda r: "/settings/" in r.url):
        act()


def full_bake(page: Page) -> None:
    ended = page.locator("#table").get_attribute("data-ended") or "0"
    page.get_by_role("button", name="Full bake").click()
    expect(page.locator("#table")).to_have_attribute("data-ended", str(int(ended) + 1), timeout=SLOW)
    expect(page.locator("#likeness")).to_be_visible()


def model_picture(page: Page) -> np.ndarray:
    """What the model's view shows once it stands: no camera on its way, nothing that still fades in."""
    page.wait_for_timeout(400)
    taken, before = page.locator("#model").screenshot(animations="disabled"), b""
    for _ in range(20):
        if taken == before:
            break
        page.wait_for_timeout(100)
        taken, before = page.locator("#model").screenshot(animations="disabled"), taken
    return cv2.imdecode(np.frombuffer(taken, np.uint8), cv2.IMREAD_COLOR).astype(int)


def picture_other_than(page: Page, before: np.ndarray, differs: bool = True) -> np.ndarray:
    """The model's picture once it differs from one of before, or is the same again; the last one seen if it never is."""
    for _ in range(40):
        now = model_picture(page)
        if (np.abs(now - before).max() > DIFFERS) == differs:
            break
    return now


def drawn(page: Page) -> dict:
    """What the model view holds and whether it can draw; `sculptAt` is where the sculpt lies, row by row."""
    return page.evaluate("""async () => {
      const { model } = await import("/static/page/page.js"), rows = model.scenes.sculpt.matrix.clone().transpose();
      return { sculptAt: rows.elements, show: model.show, times: model.drawn, lost: model.renderer.getContext().isContextLost(),
        hidden: document.hidden, sculpts: model.scenes.sculpt.children.length, from: model.camera.position.toArray() };
    }""")


def renewed(page: Page, times: int) -> None:
    expect(page.locator("#table")).to_have_attribute("data-renewed", str(times), timeout=SLOW)


def delayed(page: Page, pattern: str) -> list[str]:
    """What is asked for under addresses of a pattern; it is let through a while later."""
    asked = list[str]()

    def late(route):
        asked.append(route.request.url)
        page.wait_for_timeout(1500)
        route.continue_()

    page.route(re.compile(pattern), late)
    return asked


def in_model(page: Page, expression: str):
    """What an expression over the model view gives."""
    return page.evaluate(
        "async (e) => new Function('model', `return ${e}`)((await import('/static/page/page.js')).model)", expression
    )
