"""Fingers: two turn and bring nearer, one draws where a tool is on, and nothing scrolls beneath."""

from playwright.sync_api import Page, expect

from .browser import open_ring, unfold


class Fingers:
    """A gesture: places of fingers, one after the other."""

    def __init__(self, page: Page) -> None:
        self.client = page.context.new_cdp_session(page)

    def __call__(self, kind: str, *places) -> None:
        points = [{"x": x, "y": y, "id": n} for n, (x, y) in enumerate(places)]
        self.client.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})


def distance(page: Page) -> float:
    """From the eye to what it looks at."""
    return page.evaluate(
        "import('/static/page/page.js').then(({ model }) => model.camera.position.distanceTo(model.controls.target))"
    )


def test_two_fingers_bring_the_model_nearer_and_turn_it_and_nothing_scrolls(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    box = page.locator("#model").bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    before, fingers = distance(page), Fingers(page)
    fingers("touchStart", (x - 30, y), (x + 30, y))
    for step in range(1, 8):
        fingers("touchMove", (x - 30 - 10 * step, y - 4 * step), (x + 30 + 10 * step, y - 4 * step))
    fingers("touchEnd")
    page.wait_for_timeout(300)
    assert distance(page) < 0.8 * before
    assert page.evaluate("[scrollX, scrollY, visualViewport.scale]") == [0, 0, 1]


def test_a_finger_draws_where_the_brush_is_on(quiet: Page, services, ring):
    page = quiet
    open_ring(page, ring)
    unfold(page, "cage-by-hand")
    page.locator("#brush-on").click()
    box = page.locator("#model").bounding_box()
    x, y = box["x"] + box["width"] * 0.25, box["y"] + box["height"] * 0.55
    fingers = Fingers(page)
    with page.expect_response(lambda r: "/nudges" in r.url, timeout=30_000):
        fingers("touchStart", (x, y))
        for step in range(1, 6):
            fingers("touchMove", (x + 4 * step, y))
        fingers("touchEnd")
    expect(page.locator("#brush-on")).to_have_attribute("aria-pressed", "true")
    assert len(services.pieces.get(1)[0].recipe.nudges) == 1
