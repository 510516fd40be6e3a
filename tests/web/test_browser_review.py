"""Review in a real browser: flaws, mends, trials, the history of bakes."""

import contextlib
import re

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from playwright.sync_api import TimeoutError as PlaywrightTimeout

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.piece.piece import take
from inkwell_cast.demo import troubled

from .browser import SLOW, full_bake, make_piece, model_picture, open_ring, set_size


def test_the_loop_of_next_flaw_mend_and_proof_by_keyboard(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    for name in ("reach.outward", "reach.inward"):
        with page.expect_response(lambda r: "/settings/cage" in r.url):
            page.locator(f"input[name='{name}']").fill("0.3")
            page.locator(f"input[name='{name}']").press("Tab")
    page.keyboard.press("Escape")
    page.locator("#model canvas").focus()
    page.keyboard.press("p")
    expect(page.locator("#likeness")).to_be_visible(timeout=SLOW)
    expect(page.locator(".flaws")).to_contain_text("Sculpt outside the cage")
    outside = page.locator(".flaws > li").filter(has_text="Sculpt outside the cage")
    found, drawn = outside.count(), model_picture(page)
    page.keyboard.press("j")
    expect(page.get_by_text("and the sculpt").first).to_be_visible()
    page.wait_for_timeout(600)
    assert np.abs(model_picture(page) - drawn).max() > 60  # the view went there and hatches it
    before = model_picture(page)
    with page.expect_response(lambda r: r.url.endswith("/rims")):
        page.locator(".flaws details[open] [data-patches] button").first.hover()
    page.wait_for_timeout(600)
    assert np.abs(model_picture(page) - before).max() > 40  # the rim of where it would change something
    page.keyboard.press("a")
    expect(page.get_by_text("kept among the mends")).to_be_visible(timeout=SLOW)
    expect(page.get_by_text("Settings changed since this bake")).to_be_visible()
    page.locator("#model canvas").focus()
    page.keyboard.press("p")
    expect(page.locator("#table")).to_have_attribute("data-ended", "2", timeout=SLOW)
    expect(page.get_by_text("Settings changed since this bake")).to_be_hidden(timeout=SLOW)
    page.locator("[data-map=likeness]").click()
    expect(page.locator("#map-choice")).to_have_value("likeness")
    page.locator(".flaw-number:visible").first.click()
    expect(page.locator(".flaws details").first).to_have_attribute("open", "")
    assert outside.count() < found  # here is here: what lies elsewhere on the ring has mends of its own


@pytest.fixture(scope="module")
def troubled_files(tmp_path_factory):
    """The troubled inkstand without the parts that have no trouble or one that no bake shows."""
    folder, paths = tmp_path_factory.mktemp("troubled"), []
    for mesh in troubled.build():
        kept = tuple(name for name in mesh.object_names if not name.startswith(("well_", "lid_left", "hinge_left")))
        paths.append(folder / mesh.name)
        write_mesh(paths[-1], take(mesh, kept))
    return paths


def bakes_ended(page: Page) -> int:
    return int(page.locator("#table").get_attribute("data-ended") or 0)


@pytest.mark.deep
def test_the_troubled_inkstand_is_gone_through_and_mended_by_keyboard(quiet: Page, server, services, troubled_files):
    page, services.uploads.max_upload = quiet, 1 << 30
    make_piece(page, server, troubled_files)
    set_size(page, 256, 256)
    page.keyboard.press("p")
    flaws = page.locator(".flaws .finding")
    expect(page.locator("#mend-all")).to_be_visible(timeout=SLOW)
    before = flaws.count()
    assert before >= 5
    drawn = model_picture(page)
    page.keyboard.press("j")
    expect(page.get_by_text("but its faces look inward")).to_be_visible()
    page.wait_for_timeout(600)
    assert np.abs(model_picture(page) - drawn).max() > 60

    page.keyboard.press("t")
    expect(page.locator("#trial")).to_contain_text("Turn the faces of the sculpt over", timeout=SLOW)
    expect(page.locator("#trial .better")).not_to_have_count(0)
    assert flaws.count() == before - 1
    page.get_by_role("button", name="Wipe between before and now").click()
    expect(page.locator("#against")).to_be_visible()
    page.keyboard.press("x")
    expect(page.locator("#against-words")).to_contain_text("alone")
    page.locator("#against-close").click()
    page.locator("#model canvas").focus()
    page.keyboard.press("a")
    expect(page.locator(".mends li")).to_have_count(1, timeout=SLOW)
    expect(page.locator("#trial")).to_be_hidden()
    expect(page.locator("#stale")).to_be_hidden()

    ended = bakes_ended(page)
    page.evaluate(
        """() => { const here = document.getElementById("mending-here");
                  new MutationObserver(() => { window.toldHere ||= !here.hidden && here.textContent; })
                    .observe(here, { attributes: true, subtree: true, childList: true }); }"""
    )
    page.locator("#mend-all").click()
    expect(page.locator("#table")).to_have_attribute("data-ended", str(ended + 1), timeout=SLOW)
    expect(page.locator("#mended")).to_contain_text("mends did good and were kept", timeout=SLOW)
    assert "Cancel" in page.evaluate("() => window.toldHere")  # where it was pressed
    expect(page.locator(".flaws [data-mend]")).to_have_count(0)  # what is left is for the modelling program
    expect(page.locator(".flaws")).not_to_contain_text("Sculpt outside the cage")
    assert page.locator(".mends li").count() >= 4
    expect(page.locator("#mend-all")).to_be_hidden()
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".mends li")).to_have_count(1, timeout=SLOW)
    expect(page.locator("#stale")).to_be_visible()


@pytest.mark.deep
def test_a_place_is_mended_by_a_click(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    set_size(page, 96, 64)
    full_bake(page)
    page.locator("#by-hand > summary").click()
    expect(page.locator("#hand-reach")).to_be_visible()  # of a pocket
    page.locator("#hand select").select_option("heal")
    page.locator("#hand input[name=radius]").fill("0.4")
    expect(page.locator("#hand-reach")).to_be_hidden()
    page.locator("#hand-on").click()
    box = page.locator("#model").bounding_box()
    page.locator("#model canvas").click(position={"x": box["width"] * 0.3, "y": box["height"] * 0.55})
    expect(page.locator(".mends li")).to_have_count(1, timeout=SLOW)
    expect(page.locator(".mends")).to_contain_text("Fill a place in from its rim")
    expect(page.locator("#hand select")).to_have_value("heal")  # remembered
    expect(page.locator("#hand input[name=radius]")).to_have_value("0.4")
    full_bake(page)
    expect(page.locator("#stale")).to_be_hidden(timeout=SLOW)
    page.locator(".mends input").uncheck()
    expect(page.locator("#stale")).to_be_visible(timeout=SLOW)


def choose(bake, name) -> None:
    """Choose from the menu of a bake; a drawer that is drawn anew in between closes it, so it is opened again."""
    button = bake.get_by_role("button", name=name)
    for _ in range(6):
        if not button.is_visible():
            bake.locator(".bake-menu summary").click()
        with contextlib.suppress(PlaywrightTimeout):
            button.click(timeout=3000)
            return
    raise AssertionError(f"the menu of the bake did not stay open for {name}")


@pytest.mark.deep
def test_bakes_are_named_compared_restored_and_thrown_away(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    set_size(page, 96, 64)
    full_bake(page)
    set_size(page, 64, 64)
    full_bake(page)
    bakes = page.locator("#bakes-leaf .bakes > li")
    expect(bakes).to_have_count(2)
    bakes.nth(1).locator(".bake-menu summary").click()
    bakes.nth(1).get_by_label("Name").fill("before the change")
    bakes.nth(1).get_by_label("Name").press("Enter")
    expect(bakes.nth(1)).to_contain_text("before the change", timeout=SLOW)
    choose(bakes.nth(1), "Wipe against")
    expect(page.locator("#against")).to_contain_text("before the change")
    page.locator("#against-close").click()
    choose(bakes.nth(1), "Restore its settings")
    expect(page.locator("#full-bake")).to_have_attribute("title", re.compile(r"^96 × 64;"), timeout=SLOW)
    choose(bakes.nth(0), re.compile("Delete it"))
    expect(bakes).to_have_count(1, timeout=SLOW)
    expect(page.locator("#bakes-leaf")).to_contain_text(" on disk.")


TINY = """async () => {
  const { model } = await import("/static/page/page.js"), [low, high] = model.low.header.bounds;
  const y = high[1] + 0.05 * (high[1] - low[1]), s = 1e-4 * (high[0] - low[0]);
  const corners = [];
  for (let n = 0; n < 40; n++) {
    const x = low[0] + (high[0] - low[0]) * n / 39;
    corners.push(x, y, 0, x + s, y, 0, x, y, -s);
  }
  model.showMarks(new Float32Array(corners), null);
}"""
BALL = """async () => {
  const { model } = await import("/static/page/page.js"), [a, b, c, d] = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]];
  model.camera.position.set(0.5, -6, 0.5); model.controls.target.set(0, 0, 0); model.controls.update();
  const corners = [[a, c, b], [a, b, d], [a, d, c], [b, c, d]].flat(2);
  model.showMarks(new Float32Array(corners), [[0.2, 0.2, 0.2], 0.5]);
}"""


def test_what_is_marked_is_seen_however_small_and_a_whole_part_not_from_below(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)

    def red() -> int:
        blue, green, strength = np.moveaxis(model_picture(page), 2, 0)
        return int(((strength > 150) & (strength - green > 70) & (strength - blue > 70)).sum())

    before = red()
    page.evaluate(TINY)
    assert red() > before + 40
    page.evaluate(BALL)
    page.wait_for_timeout(500)
    assert page.evaluate(
        "import('/static/page/page.js').then(({ model }) => model.camera.position.y > model.controls.target.y)"
    )
