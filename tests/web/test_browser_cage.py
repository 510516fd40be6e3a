"""The step Cage by mouse and keys: reach, section, pockets, brush."""

import json

import numpy as np
from playwright.sync_api import Page, expect

from .browser import (
    SLOW,
    delayed,
    model_picture,
    open_ring,
    unfold,
)


def test_a_pair_has_a_reach_of_its_own_and_inherits_again(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    page.get_by_label("Whose settings these are").select_option("pair:ring")
    expect(page.get_by_text("from the piece").first).to_be_visible()
    with page.expect_response(lambda r: "/settings/cage" in r.url):
        page.locator("input[name='level.outward']").fill("4")
        page.locator("input[name='level.outward']").press("Tab")
    expect(page.get_by_text("set here")).to_be_visible()
    page.get_by_role("button", name="inherit").click()
    expect(page.get_by_text("set here")).to_be_hidden()
    expect(page.locator("input[name='level.outward']")).to_have_value("1.5")


def test_the_reach_rule_is_dragged_and_measures(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    expect(page.locator("#covered")).to_contain_text("of the sculpt’s surface held", timeout=SLOW)
    handle = page.locator(".handle").nth(1).bounding_box()
    middle = handle["x"] + handle["width"] / 2, handle["y"] + 8
    page.mouse.move(*middle)
    page.mouse.down()
    page.mouse.move(middle[0] - 90, middle[1], steps=6)
    expect(page.locator("#covered")).to_contain_text("vertices outside", timeout=SLOW)
    with page.expect_response(lambda r: "/settings/cage" in r.url):
        page.mouse.up()
    assert float(page.locator("input[name='reach.outward']").input_value()) < 1
    page.get_by_role("button", name="Measure").click()
    expect(page.locator("#covered")).to_contain_text("100 %", timeout=SLOW)
    page.locator(".handle").nth(1).focus()
    with page.expect_response(lambda r: "/settings/cage" in r.url):
        page.keyboard.press("ArrowRight")


def test_the_section_follows_the_pointer_and_is_pinned(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    expect(page.locator("#covered")).to_be_visible(timeout=SLOW)
    for opened in ("true", "false", "true"):
        page.keyboard.press("s")
        expect(page.get_by_role("tab", name="Section")).to_have_attribute("aria-selected", opened)
    page.keyboard.press("f")
    box = page.locator("#model").bounding_box()
    at = box["x"] + box["width"] * 0.3, box["y"] + box["height"] * 0.55
    page.mouse.move(at[0] + 2, at[1])
    page.mouse.move(*at)
    expect(page.locator("#section-words")).to_contain_text("struck ring_high", timeout=SLOW)
    assert page.locator("#section path").count() > 10
    page.mouse.click(*at)
    page.wait_for_timeout(500)
    words = page.locator("#section-words").inner_text()
    page.mouse.move(at[0] + 25, at[1] + 12, steps=4)
    page.wait_for_timeout(500)
    assert page.locator("#section-words").inner_text() == words
    lines = page.locator("#section path").nth(1).get_attribute("d")
    page.get_by_label("Turn of the slice").fill("90")
    page.wait_for_timeout(800)
    assert page.locator("#section path").nth(1).get_attribute("d") != lines
    page.get_by_text("the view", exact=True).click()
    page.wait_for_timeout(800)
    drawn = page.locator("#section").bounding_box()
    sheet = page.locator("#sheet").screenshot()
    page.mouse.move(drawn["x"] + drawn["width"] / 2, drawn["y"] + drawn["height"] * 0.4)
    expect(page.locator("#section path[stroke-width='2.6']")).to_have_count(1)
    page.wait_for_timeout(300)
    assert page.locator("#sheet").screenshot() != sheet  # its texel is lit
    page.locator("#section").focus()
    lit = page.locator("#section path[stroke-width='2.6']").get_attribute("d")
    page.keyboard.press("ArrowRight")
    assert page.locator("#section path[stroke-width='2.6']").get_attribute("d") != lit
    page.get_by_role("tab", name="Bakes").click()
    expect(page.get_by_text("No bakes yet")).to_be_visible()


def grip_at(page, x, y, beyond=0):
    """How far left of a place of the model a patch is taken hold of, once it is laid there."""
    for _ in range(40):
        for left in range(beyond, beyond + 200, 4):
            page.mouse.move(x - left, y)
            if page.evaluate("document.querySelector('#model canvas').style.cursor") == "grab":
                return left
        page.wait_for_timeout(250)
    raise AssertionError("no patch is there")


def test_a_pocket_is_placed_by_a_click_and_dragged_by_its_middle_and_its_rim(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    expect(page.locator("#covered")).to_be_visible(timeout=SLOW)
    unfold(page, "cage-by-hand")
    page.get_by_role("button", name="Add a pocket").click()
    model_picture(page)  # the camera stands
    box = page.locator("#model").bounding_box()
    at = box["x"] + box["width"] * 0.3, box["y"] + box["height"] * 0.55
    with page.expect_response(lambda r: r.url.endswith("/rims")):
        page.mouse.click(*at)
    expect(page.get_by_text("Pocket 1")).to_be_visible(timeout=SLOW)
    place = page.locator("#pockets").get_attribute("data-pockets")
    grip_at(page, *at)  # it may be laid while it is looked for
    assert grip_at(page, *at) == 0
    page.mouse.down()
    page.mouse.move(at[0] - 20, at[1] + 8, steps=4)
    delayed(page, "/rims$")  # what is dragged while it is laid anew is not lost
    with page.expect_response(lambda r: "/pockets/" in r.url):
        page.mouse.up()
    expect(page.locator("#pockets")).not_to_have_attribute("data-pockets", place, timeout=SLOW)
    (moved,) = json.loads(page.locator("#pockets").get_attribute("data-pockets"))
    at = at[0] - 20, at[1] + 8
    rim = grip_at(page, *at, beyond=20)
    page.mouse.down()
    page.mouse.move(at[0] - rim - 20, at[1], steps=5)
    with page.expect_response(lambda r: "/pockets/" in r.url):
        page.mouse.up()
    expect(page.locator("#pockets")).not_to_have_attribute("data-pockets", json.dumps([moved]), timeout=SLOW)
    page.unroute_all(behavior="wait")
    (wider,) = json.loads(page.locator("#pockets").get_attribute("data-pockets"))
    assert wider["radius"] > 1.05 * moved["radius"]
    assert wider["centre"] == moved["centre"]
    page.get_by_text("Pocket 1").click()
    page.get_by_role("button", name="Remove").click()
    expect(page.get_by_text("Pocket 1")).to_be_hidden()


def test_the_cage_is_brushed_and_a_stroke_undone(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    expect(page.locator("#covered")).to_be_visible(timeout=SLOW)
    page.keyboard.press("c")
    before = model_picture(page)
    unfold(page, "cage-by-hand")
    page.get_by_role("button", name="Brush: draw on the model").click()
    page.locator("input[name=size]").fill("9")
    box = page.locator("#model").bounding_box()
    at = box["x"] + box["width"] * 0.3, box["y"] + box["height"] * 0.55
    page.mouse.move(*at)
    page.mouse.down()
    page.mouse.move(at[0] + 30, at[1] + 12, steps=6)
    with page.expect_response(lambda r: "/nudges" in r.url):
        page.mouse.up()
    expect(page.get_by_text("1 stroke", exact=True)).to_be_visible(timeout=SLOW)
    expect(page.locator("input[name=size]")).to_have_value("9")
    assert np.abs(model_picture(page) - before).max() > 30  # the dent is drawn
    page.get_by_label("Smooth", exact=True).check(force=True)
    page.locator("input[name=strength]").fill("2")
    page.mouse.click(*at)
    expect(page.get_by_role("alert")).to_contain_text("Give 0 to 1")
    page.locator("#undo").click()
    expect(page.get_by_text("1 stroke", exact=True)).to_be_hidden()
