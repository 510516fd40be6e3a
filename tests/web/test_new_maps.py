"""A low without a sculpt, and light that is set in words, on the page."""

import re

import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.settings.map_names import OF_LOWS_ALONE

from .browser import SLOW, ready, set_size


@pytest.mark.deep
def test_a_low_on_its_own_needs_no_sculpt_and_light_is_set_in_words(quiet: Page, server, services, ring_files):
    page = quiet
    page.goto(f"{server}/new")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    page.locator("#files").set_input_files([str(ring_files[0])])
    role = page.get_by_label(f"Role of {ring_files[0].name}")
    expect(role).to_have_value("", timeout=SLOW)
    role.select_option("low")
    expect(page.locator("#why")).to_have_text("Still needed: a high.")
    page.get_by_label("The low on its own, without a sculpt").check()
    page.get_by_role("button", name="Make the piece").click()
    page.wait_for_url(re.compile(r"/pieces/\d+"))
    page.goto(page.url.split("?")[0] + "?step=cage&plain")
    ready(page)
    set_size(page, 64, 64)
    page.get_by_role("button", name="Full bake").click()
    expect(page.locator("#table")).to_have_attribute("data-ended", "1", timeout=SLOW)
    row = services.bakes.get(services.bakes.newest(1)[0].id)
    assert [entry.key for entry in row.manifest.maps] == list(OF_LOWS_ALONE)
    assert row.manifest.missed_texels == 0
    page.get_by_role("link", name="Maps").click()
    page.locator("label.tick", has_text=re.compile("^ *Light$")).click()
    page.locator("#map-light > summary").click()
    lamps = page.locator("input[name='light.lamps']")
    lamps.fill("here 1")
    lamps.press("Tab")
    expect(page.locator("#map-light [role=alert]")).to_contain_text("is not a place of three numbers")
    lamps = page.locator("input[name='light.lamps']")
    lamps.fill("0 0 3 2 #ffd9a0")
    lamps.press("Tab")
    expect(page.locator("#map-light [role=alert]")).to_have_count(0)
    assert services.pieces.get(1)[0].recipe.light.lamps == "0 0 3 2 #ffd9a0"
