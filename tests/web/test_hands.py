"""What hands do on the page of a piece: numbers typed and dragged, changes stepped through, folders chosen."""

import re

import pytest
from playwright.sync_api import Page, expect

from .browser import SLOW, make_piece, unfold


def settled(page: Page, act) -> None:
    with page.expect_response(lambda r: "/settings/" in r.url):
        act()


def test_numbers_take_sums_and_units_are_dragged_and_stepped(quiet: Page, server, services, ring_files):
    page = quiet
    make_piece(page, server, ring_files)
    field = page.locator("input[name='reach.outward']")

    def typed(text):
        field.fill(text)
        settled(page, lambda: field.press("Enter"))
        return services.pieces.get(1)[0].recipe.reach.outward

    assert typed("2 + 1/4") == 2.25
    diagonal = services.pieces.wanted(1)[1][0].facts.diagonal  # of the low; a scene unit is a centimetre
    assert typed("1 mm") == pytest.approx(100 * 0.1 / diagonal, rel=1e-4)
    assert typed("3 %") == 3
    field.fill("two")
    settled(page, lambda: field.press("Enter"))
    expect(page.locator("#panel .problem").first).to_be_visible()
    assert services.pieces.get(1)[0].recipe.reach.outward == 3
    page.reload()
    word = page.locator(".field", has=page.locator("input[name='reach.outward']")).locator("span").first
    box = word.bounding_box()
    page.mouse.move(box["x"] + 10, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(box["x"] + 40, box["y"] + 8)
    page.mouse.move(box["x"] + 70, box["y"] + 8)  # sixty pixels double it
    settled(page, page.mouse.up)
    assert services.pieces.get(1)[0].recipe.reach.outward == pytest.approx(6, rel=0.02)
    field.focus()
    page.keyboard.press("ArrowUp")
    settled(page, lambda: page.keyboard.press("Tab"))
    assert services.pieces.get(1)[0].recipe.reach.outward > 6


def test_changes_are_called_by_what_they_changed_and_any_is_gone_to(quiet: Page, server, services, ring_files):
    page = quiet
    make_piece(page, server, ring_files)
    for value in ("2", "3", "4"):
        page.locator("input[name='reach.outward']").fill(value)
        settled(page, lambda: page.locator("input[name='reach.outward']").press("Enter"))
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Outward 3 → 4")
    page.locator("#changes summary").click()
    expect(page.locator("#changes li")).to_have_count(4)
    page.get_by_role("button", name="Outward 1.5 → 2").click()
    expect(page.locator("input[name='reach.outward']")).to_have_value("2.0")
    expect(page.locator("#redo")).to_have_attribute("title", "Redo: Outward 2 → 3")
    page.locator("#redo").click()
    expect(page.locator("input[name='reach.outward']")).to_have_value("3.0")


def test_a_folder_is_chosen_for_a_handoff_and_no_other_is_shown(
    quiet: Page, server, client, ring_files, tmp_path, monkeypatch
):
    home = tmp_path / "home"
    (home / "textures" / "ring").mkdir(parents=True)
    monkeypatch.setenv("HOME", str(home))
    page = quiet
    make_piece(page, server, ring_files)
    page.keyboard.press("p")
    expect(page.locator("#table")).to_have_attribute("data-ended", "1", timeout=SLOW)
    page.get_by_role("link", name="Handoff").click()
    page.get_by_role("button", name="Choose", exact=True).click()
    dialog = page.get_by_role("dialog", name="Choose a folder")
    dialog.get_by_role("button", name="textures").click()
    expect(dialog.locator("b")).to_have_text(str(home / "textures"))
    dialog.get_by_role("button", name="ring").click()
    dialog.get_by_role("button", name="Choose this folder").click()
    expect(page.get_by_label("Folder or .zip on this machine")).to_have_value(str(home / "textures" / "ring"))
    assert client.get("/folders", params={"place": "/etc"}).status_code == 422
    assert client.get("/folders", params={"place": str(home / ".." / "..")}).status_code == 422
    assert client.get("/folders").json()["folders"] == ["textures"]


def test_a_long_list_is_filtered_by_its_words(quiet: Page, server, ring_files):
    page = quiet
    make_piece(page, server, ring_files)
    for n in range(12):
        page.evaluate(
            "([x]) => fetch(`${location.pathname}/nudges`, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify({ kind: x % 2 ? 'out' : 'in', points: [[1, 0, 0]], size: '1', move: '0.5', strength: '0.5', falloff: '1', mirror: 'none' }) })",
            [n],
        )
    page.get_by_role("link", name="Meshes").click()
    page.get_by_role("link", name="Cage").click()
    unfold(page, "cage-by-hand")
    page.locator("summary", has_text="12 strokes").click()
    expect(page.locator(".strokes > li:visible")).to_have_count(12)
    page.get_by_label("Filter the strokes").fill("nothing like it")
    expect(page.locator(".strokes > li:visible")).to_have_count(0)
    page.get_by_label("Filter the strokes").fill("")
    expect(page.locator(".strokes > li:visible")).to_have_count(12)
    expect(page.locator("#changes summary")).to_be_visible()
    assert re.search("1[0-9]", page.locator("summary", has_text="strokes").inner_text())
