"""What is here: the card of a place, its mends as pictures, and flaws that are as they should be."""

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect

from .browser import SLOW, full_bake, open_ring
from .helpers import baked, piece_id_of


@pytest.fixture
def lacking(client, piece, services):
    """The address of a bake whose rays fall short, and its first flaw."""
    client.post(f"{piece}/settings/cage", data={"reach.outward": "0.05", "reach.inward": "0.05"})
    bake = baked(client, piece)["facts"]["id"]
    return f"{piece}/bakes/{bake}", services.bakes.get(bake).manifest.flaws[0]


def test_a_place_says_what_was_struck_why_it_looks_so_and_shows_its_mends(client, piece, lacking):
    bake, flaw = lacking
    x, y = flaw.texel
    card = client.get(f"{bake}/ask", params={"x": x, "y": y}).text
    assert "The ray struck" in card
    assert flaw.title in card
    assert flaw.mends[0].words in card
    pictures = [
        cv2.imdecode(
            np.frombuffer(client.get(f"{bake}/ask/0/{name}.png", params={"x": x, "y": y}).content, np.uint8), 1
        )
        for name in ("now", "0")
    ]
    assert [picture.shape for picture in pictures] == [(96, 96, 3)] * 2
    assert np.abs(pictures[0].astype(int) - pictures[1]).max() > 4  # the mend draws something else
    for address in (f"{bake}/ask?x=9999&y=0", f"{bake}/ask/99/0.png?x=1&y=1", f"{bake}/ask/0/99.png?x=1&y=1"):
        assert client.get(address).status_code == 404


def test_a_flaw_that_is_as_it_should_be_is_not_told_again_until_that_is_taken_back(client, piece, services, lacking):
    bake, flaw = lacking
    before = services.bakes.get(int(bake.rpartition("/")[2])).manifest.number_of_flaws
    assert "It is not told again" in client.post(f"{bake}/flaws/0/accept").text.replace("it is", "It is")
    recipe = services.pieces.get(piece_id_of(piece))[0].recipe
    assert [place.cause for place in recipe.accepted] == [flaw.cause]
    facts = baked(client, piece)["facts"]
    manifest = services.bakes.get(facts["id"]).manifest
    assert manifest.accepted >= 1
    assert manifest.number_of_flaws == before - manifest.accepted
    assert all(not one.is_among(recipe.accepted) for one in manifest.flaws)
    assert "as it should be" in client.get(f"{piece}/panel/review").text
    client.post(f"{piece}/accepted/out")
    assert services.pieces.get(piece_id_of(piece))[0].recipe.accepted == []
    assert client.post(f"{bake}/flaws/99/accept").status_code == 404


def test_the_card_comes_by_right_click_and_by_key_and_its_buttons_act(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    full_bake(page)
    box = page.locator("#model").bounding_box()
    x, y = box["x"] + box["width"] * 0.25, box["y"] + box["height"] * 0.55
    page.mouse.click(x, y, button="right")
    card = page.locator("#asked")
    expect(card).to_contain_text("The ray struck ring_high", timeout=SLOW)
    page.keyboard.press("Escape")
    expect(card).to_be_hidden()
    page.mouse.move(x + 2, y)
    page.keyboard.press("q")
    expect(card).to_be_visible(timeout=SLOW)
    card.get_by_role("button", name="Hide it").click()
    expect(card).to_be_hidden()
    expect(page.locator("#parts-count")).to_contain_text("1 hidden")
