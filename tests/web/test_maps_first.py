"""A full bake shows and keeps its maps as soon as they are written; its judging comes after."""

import threading
import time

import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.store import bakes

from .browser import SLOW, open_ring, ready
from .helpers import ended, piece_id_of


@pytest.fixture
def release(services, monkeypatch):
    """Bakes stay as they are while they are judged until this event is set."""
    event, closed = threading.Event(), services.bakes._closed
    monkeypatch.setattr(services.bakes, "_closed", lambda *end: event.is_set() and closed(*end))
    monkeypatch.setattr("inkwell_cast.web.services.bakes.TRY_AGAIN_EVERY", 0.05)
    yield event
    event.set()


def judging(services, piece_id):
    """The newest bake of a piece once its maps are there."""
    until = time.monotonic() + SLOW / 1000
    while time.monotonic() < until:
        row = services.bakes.newest(piece_id)[0]
        if row and row.state == "judging":
            return row
        time.sleep(0.02)
    raise AssertionError("its maps did not come")


def test_maps_are_kept_and_handed_out_while_they_are_judged(client, piece, services, release):
    client.post(f"{piece}/bake")
    row = judging(services, piece_id_of(piece))
    assert row.open
    manifest = services.bakes.get(row.id).manifest
    assert (manifest.seen, manifest.flaws) == (None, None)
    assert client.get(f"{piece}/bakes/{row.id}/normal.png").content.startswith(b"\x89PNG")
    assert client.get(f"{piece}/bakes/{row.id}/all.zip").status_code == 200
    assert "is being judged" in client.get(f"{piece}/panel/review").text
    assert "being judged" in client.get(f"{piece}/drawer").text
    progress = client.get(f"{piece}/progress")
    assert "maps-there" in progress.headers["HX-Trigger"]
    assert "Judging" in progress.text
    assert 'id="full-bake"' in progress.text
    release.set()
    facts = ended(client, piece)["facts"]
    assert facts["id"] == row.id
    assert services.bakes.get(row.id).manifest.seen is not None
    assert "mean angle to the sculpt" in client.get(f"{piece}/panel/review").text


def test_maps_stay_when_their_judging_is_cancelled_or_the_program_ends(client, piece, services, release):
    client.post(f"{piece}/bake")
    row = judging(services, piece_id_of(piece))
    kept, ways = services.bakes.get(row.id), []
    for stop in (
        lambda db: bakes.end(db, row.id, "cancelled", "Cancelled."),
        lambda db: bakes.end(db, row.id, "failed", "It ended."),
        bakes.mark_interrupted,
    ):
        with services.store.writing() as db:
            bakes.finish(db, row.id, kept.manifest, {}, judging=True)
            stop(db)
        left = services.bakes.get(row.id)
        assert (left.state, left.open) == ("done", False)
        ways.append(left.message)
    assert ways == ["Its judging was cancelled.", "Not judged: It ended.", bakes.NOT_JUDGED]
    assert left.message in client.get(f"{piece}/panel/review").text
    assert client.get(f"{piece}/bakes/{row.id}/normal.png").status_code == 200


def test_a_new_bake_does_not_wait_for_the_judging_of_the_one_before(client, piece, services, release):
    client.post(f"{piece}/bake")
    first = judging(services, piece_id_of(piece))
    second = services.bakes.start(piece_id_of(piece), False)
    assert second != first.id
    release.set()
    assert ended(client, piece)["facts"]["id"] == second


def test_the_page_shows_the_maps_and_their_figures_come_later(quiet: Page, ring, services, release):
    page = quiet
    open_ring(page, ring)
    page.locator("#full-bake").click()
    row = judging(services, piece_id_of(ring))
    expect(page.locator("#table")).to_have_attribute("data-maps", str(row.id))
    expect(page.locator("#bake-box")).to_contain_text("Judging")
    expect(page.locator("#full-bake")).to_be_enabled()
    expect(page.locator("#steps a", has_text="Handoff")).to_have_count(1)
    page.get_by_role("link", name="Review").click()
    expect(page.locator("#panel")).to_contain_text("is being judged")
    release.set()
    expect(page.locator("#likeness")).to_be_visible()
    page.reload()
    ready(page)
    expect(page.locator("#likeness")).to_be_visible()
