"""Answers that are held back never take away what was chosen meanwhile."""

import pytest
from playwright.sync_api import Page, expect

from .browser import delayed, open_ring, renewed, set_size, settled


def stays_when_chosen(page, step):
    """Choose a step while an answer is on its way that shows another one, and be left there."""
    page.get_by_role("link", name=step).click()
    page.wait_for_timeout(2500)
    expect(page.locator("#steps .here")).to_have_text(step)
    expect(page.locator("#panel h1")).to_have_text(step)


@pytest.mark.deep
def test_newer_figures_never_bring_back_a_step_that_was_left(alive: Page, services, ring):
    """The panel of Review is fetched anew when a proof is done; Cage is chosen while that is under way."""
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    page.get_by_role("link", name="Review").click()
    expect(page.locator("#steps .here")).to_have_text("Review")
    asked = delayed(page, "renewed=yes")
    services.settings.change(
        1, "Reach", lambda r: r.model_copy(update={"reach": r.reach.model_copy(update={"outward": 6.5})})
    )
    page.evaluate("dispatchEvent(new Event('focus'))")
    while not asked:
        page.wait_for_timeout(100)
    stays_when_chosen(page, "Cage")


@pytest.mark.deep
def test_the_review_of_an_ended_bake_never_takes_away_a_step_that_was_chosen(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    set_size(page, 64, 64)
    asked = delayed(page, r"panel/review\?chosen=")
    page.get_by_role("button", name="Full bake").click()
    while not asked:
        page.wait_for_timeout(100)
    stays_when_chosen(page, "Basis")


@pytest.mark.deep
def test_a_full_bake_that_ends_after_a_live_proof_began_is_what_is_shown(alive: Page, services, ring):
    """Both are of the same settings; the bake was asked for first and is the larger."""
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    sheet = services.pieces.get(1)[0].recipe.sheet.model_copy(
        update={"width": 640, "height": 640}
    )  # larger than a proof
    services.settings.change(1, "Size", lambda r: r.model_copy(update={"sheet": sheet}))
    bake_id = services.bakes.start(1, False)
    page.evaluate(  # a proof that begins and ends beside it
        "fetch(`${location.pathname}/live/proof`, { method: 'POST' }).then((r) => r.json())"
    )
    while services.bakes.get(bake_id).open:
        page.wait_for_timeout(100)
    assert services.bakes.newest(1)[0].id == bake_id


def test_a_panel_that_was_drawn_before_the_one_that_stands_is_not_shown(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    page.get_by_role("link", name="Maps").click()
    width = page.locator("input[name='sheet.width']")
    expect(width).to_have_value("64")
    held = []
    page.route("**/panel/maps", lambda route: held.append((route, route.fetch())))
    page.evaluate("void htmx.ajax('GET', `${location.pathname}/panel/maps`, '#panel')")
    while not held:
        page.wait_for_timeout(50)
    width.fill("96")
    settled(page, lambda: width.press("Tab"))
    route, drawn_before = held.pop()
    route.fulfill(response=drawn_before)
    page.wait_for_timeout(500)
    expect(width).to_have_value("96")


def test_a_press_on_a_step_is_heard_though_a_panel_comes_before_it_is_let_go(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    asked = delayed(page, "panel/meshes")
    page.get_by_role("link", name="Meshes").click()
    page.get_by_role("link", name="Basis").hover()
    page.mouse.down()
    while not asked:
        page.wait_for_timeout(50)
    page.wait_for_timeout(2500)
    page.mouse.up()
    expect(page.locator("#steps .here")).to_have_text("Basis")
    expect(page.locator("#panel h1")).to_have_text("Basis")
