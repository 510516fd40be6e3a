"""A project on the page: what a piece begins with, what is set otherwise, and where its handoff goes."""

import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.handoff.file_names import plain
from inkwell_cast.core.settings.project import NAME, Project

from .browser import full_bake

SETTINGS = {"sheet": {"width": 64, "height": 48}, "output": {"maps": ["normal"]}, "reach": {"outward": 3}}


@pytest.fixture
def at_home(client, ring_files, tmp_path):
    """The address of a piece whose meshes lie in a project, and where that is."""
    (tmp_path / "props").mkdir()
    (tmp_path / NAME).write_text(Project(settings=SETTINGS, handoffs="out/{folder}").portable())
    roles = {}
    for path in ring_files:
        (tmp_path / "props" / path.name).write_bytes(path.read_bytes())
        taken = client.put("/uploads/from", json={"path": str(tmp_path / "props" / path.name)}).json()
        roles[taken["token"]] = ""
    return client.post("/pieces", json={"name": "Ring of rope", "roles": roles}).json()["address"], tmp_path


@pytest.mark.deep
def test_a_piece_begins_with_its_project_and_goes_where_that_says(quiet: Page, server, at_home, services, client):
    page, (address, folder) = quiet, at_home
    page.goto(f"{server}{address}?step=meshes&plain")
    expect(page.locator("#panel")).to_contain_text(f"{folder.name} by its {NAME}. All settings are as it says.")
    page.get_by_role("link", name="Maps").click()
    field = page.locator("input[name='sheet.width']")
    expect(field).to_have_value("64")
    beside = page.locator("label.field", has=field).locator(".from-project")
    expect(beside).to_have_text("as the project says")
    field.fill("128")
    field.press("Tab")
    expect(beside).to_have_text("the project says 64")
    page.get_by_role("link", name="Meshes").click()
    expect(page.locator("#otherwise li")).to_have_text(["Width 64 → 128"])
    page.get_by_role("button", name="Set as the project says").click()
    expect(page.locator("#panel")).to_contain_text("All settings are as it says.")
    piece_id = int(address.rpartition("/")[2])
    assert services.pieces.wanted(piece_id)[0].recipe.sheet.width == 64
    assert services.settings.steps(piece_id)[0][1] == "As the project says"
    full_bake(page)
    page.get_by_role("link", name="Handoff").click()
    expect(page.get_by_label("Folder or .zip on this machine")).to_have_value(
        str(folder / "out" / "props" / plain("Ring of rope"))
    )


def test_a_project_that_cannot_be_used_is_told_and_changes_nothing(client, at_home, services):
    address, folder = at_home
    (folder / NAME).write_text(Project(library="none.json").portable())
    assert "none.json: It cannot be read" in client.get(f"{address}/panel/meshes").text
    refused = client.post(f"{address}/project")
    assert (refused.status_code, "none.json" in refused.json()["error"]) == (422, True)
    (folder / NAME).unlink()
    assert "Set as the project says" not in client.get(f"{address}/panel/meshes").text
    assert "The meshes lie in none" in client.post(f"{address}/project").json()["error"]
    assert services.pieces.wanted(int(address.rpartition("/")[2]))[0].recipe.sheet.width == 64


def test_pieces_that_a_browser_sent_have_no_project(client, piece):
    assert "Project" not in client.get(f"{piece}/panel/meshes").text
