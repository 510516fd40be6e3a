"""What is in sight stays where it is while the page changes around it."""

from dataclasses import replace

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.mesh.mesh import values_at_corners

from ..shapes import torus
from .browser import SLOW, open_ring, ready, settled, unfold

TOP = "e => Math.round(e.getBoundingClientRect().top)"


def test_a_control_stays_under_the_hand_though_what_stands_above_it_goes(alive: Page, ring):
    page = alive
    open_ring(page, ring)
    page.locator("input[name='reach.outward']").fill("0.05")
    settled(page, lambda: page.locator("input[name='reach.outward']").press("Enter"))
    places = page.locator("#coverage .place, #coverage li, #go-there")
    expect(places.first).to_be_visible(timeout=SLOW)
    unfold(page, "shape")
    split = page.locator("input[name='reach.directions'][value=split]")
    page.locator("#coverage").evaluate("e => (e.style.minHeight = '900px')")  # as where there are many places
    split.scroll_into_view_if_needed()
    page.wait_for_timeout(200)
    before = split.evaluate(TOP)
    settled(page, split.check)
    expect(places.first).to_be_visible(timeout=SLOW)
    assert split.evaluate(TOP) == pytest.approx(before, abs=3)


def test_what_arrives_at_the_top_of_the_panel_is_seen_there(alive: Page, ring):
    page = alive
    page.goto(f"{ring}?step=review&plain")
    ready(page)
    page.get_by_role("button", name="Full bake").click()
    expect(page.locator("#table")).to_have_attribute("data-ended", "1", timeout=SLOW)
    panel = "document.querySelector('#panel')"
    tall = f"{panel}.prepend(Object.assign(document.createElement('p'), {{ style: 'height: 600px' }}))"
    page.evaluate(tall)
    page.wait_for_timeout(200)
    assert page.evaluate(f"{panel}.scrollTop") == 0
    page.evaluate(f"{panel}.scrollTop = 300, {tall}")  # as what leads to a flaw does
    page.wait_for_timeout(200)
    assert page.evaluate(f"{panel}.scrollTop") == 300


def test_sheets_of_the_live_picture_are_chosen_as_those_of_a_bake_are(alive: Page, client, server, tmp_path):
    low = torus(20, 10, name="two_low")
    wide = values_at_corners(low.uvs[0].at_corners() * np.float32([2, 1]))
    write_mesh(tmp_path / "two_low.obj", replace(low, uvs=(wide,)))
    write_mesh(tmp_path / "two_high.ply", torus(100, 50, name="two_high"))
    roles = {}
    for name in ("two_low.obj", "two_high.ply"):
        roles[client.put("/uploads", params={"name": name}, content=(tmp_path / name).read_bytes()).json()["token"]] = (
            ""
        )
    address = client.post("/pieces", json={"name": "two", "roles": roles}).json()["address"]
    page = alive
    page.goto(f"{server}{address}?step=maps&plain")
    ready(page)
    settled(page, lambda: page.locator("input[name='sheet.split'][value=tile]").check())
    choice = page.locator("#sheet-choice")
    expect(choice.locator("option")).to_have_count(2, timeout=SLOW)
    first = page.locator("#sheet canvas").screenshot()
    choice.select_option(index=1)
    expect(page.locator("#sheet-fact")).to_contain_text("live")
    page.wait_for_timeout(300)
    assert page.locator("#sheet canvas").screenshot() != first
    page.locator("#undo").click()
    expect(choice).to_be_hidden(timeout=SLOW)
