"""The step Handoff, batches and piece files as an artist uses them."""

import json
import re
import zipfile

import pytest
from playwright.sync_api import Page, expect

from .browser import SLOW, full_bake, make_piece, open_ring, ready, set_size, unfold


def to_a_baked_piece(page: Page, server: str, ring_files) -> None:
    """The step Handoff of a piece with a small bake."""
    make_piece(page, server, ring_files)
    set_size(page, 64, 64)
    full_bake(page)
    to_handoff(page)


def to_handoff(page: Page) -> None:
    page.locator("#steps").get_by_role("link", name="Handoff").click()
    expect(page.get_by_role("heading", name="Handoff")).to_be_visible()


@pytest.mark.deep
def test_from_meshes_to_a_packed_handoff(quiet: Page, server, ring_files, tmp_path):
    page = quiet
    to_a_baked_piece(page, server, ring_files)
    # a receiver is looked at, then used
    page.get_by_label("Receiver", exact=True).select_option("Packed masks")
    expect(page.locator("#receiver-does")).to_contain_text("turned over")
    page.get_by_role("button", name="Set the piece for it").click()
    expect(page.get_by_text("so bake again")).to_be_visible()
    full_bake(page)
    to_handoff(page)
    # names follow the pattern as it is typed
    unfold(page, "naming")
    page.locator("#pattern").fill("{map}_{size}")
    page.locator("#pattern").press("Tab")
    expect(page.locator("#names")).to_contain_text("masks_64.png")
    page.locator("#pattern").fill("{piece}")
    page.locator("#pattern").press("Tab")
    expect(page.get_by_role("alert").first).to_contain_text("names every map alike")
    expect(page.get_by_role("button", name="Hand off into this place")).to_be_disabled()
    page.get_by_role("button", name="map", exact=True).click()
    expect(page.locator("#pattern")).to_have_value("{piece}{map}")
    expect(page.locator("#names")).to_contain_text("masks.png")  # the panel has been drawn anew
    # a map is dragged into a well, and another chosen by its menu
    page.locator(".well.blue select").scroll_into_view_if_needed()  # chips and wells in one view
    page.locator(".map-chip", has_text="Cavity").drag_to(page.locator(".well.blue .well-glass"))
    expect(page.get_by_label("Blue of masks")).to_have_value("cavity.red")
    page.get_by_label("Alpha of masks").select_option("normal.blue")
    expect(page.locator(".well.alpha img")).to_be_visible()
    page.get_by_label("Invert alpha").check()
    expect(page.get_by_label("Invert alpha")).to_be_checked()
    # into a folder, asked about the second time
    place = tmp_path / "textures"
    page.get_by_label("Folder or .zip on this machine").fill(str(place))
    page.get_by_role("button", name="Hand off into this place").click()
    expect(page.locator("#handed")).to_contain_text("files are in", timeout=SLOW)
    manifest = json.loads((place / "manifest.json").read_bytes())
    assert manifest["files"][1]["pack"]["alpha"]["invert"]
    page.get_by_role("button", name="Hand off into this place").click()
    expect(page.locator("#taken")).to_be_visible()
    page.get_by_role("button", name="Keep both").click()
    expect(page.locator("#handed")).to_contain_text("textures_2", timeout=SLOW)
    # among the files of others
    others = tmp_path / "shared"
    others.mkdir()
    (others / "flag.png").write_bytes(b"painted")
    page.get_by_label("Others use the folder").check()
    expect(page.locator("#coming")).to_be_attached()
    page.get_by_label("Folder or .zip on this machine").fill(str(others))
    page.get_by_label("Folder or .zip on this machine").press("Tab")
    expect(page.locator("#coming")).to_contain_text("new")
    page.get_by_role("button", name="Hand off into this place").click()
    expect(page.locator("#handed")).to_contain_text("new", timeout=SLOW)
    expect(page.locator("#coming")).to_contain_text("the same")
    page.get_by_role("button", name="Hand off into this place").click()
    expect(page.locator("#handed")).to_contain_text("the same", timeout=SLOW)
    assert (others / "flag.png").read_bytes() == b"painted"
    # and as an archive
    with page.expect_download(timeout=SLOW) as download:
        page.get_by_role("button", name="Download as zip").click()
    download.value.save_as(tmp_path / "a.zip")
    assert zipfile.ZipFile(tmp_path / "a.zip").testzip() is None


@pytest.mark.deep
def test_a_receiver_of_one_s_own_and_a_refused_file(quiet: Page, server, ring_files, tmp_path):
    page = quiet
    to_a_baked_piece(page, server, ring_files)
    unfold(page, "handoff-more")
    page.get_by_text("Keep, export or import receivers").click()
    page.locator("#own-receivers input[name=name]").fill("For lamps")
    page.get_by_role("button", name="Keep these settings as a receiver").click()
    expect(page.get_by_label("Receiver", exact=True)).to_have_value("For lamps")
    with page.expect_download() as download:
        page.get_by_role("link", name="Export “For lamps”").click()
    given = json.loads(download.value.path().read_bytes())
    assert given["name"] == "For lamps"
    (tmp_path / "other.json").write_text(json.dumps(given | {"name": "For doors"}))
    (tmp_path / "newer.json").write_text(json.dumps(given | {"version": 7}))
    page.locator("#own-receivers input[type=file]").set_input_files(str(tmp_path / "newer.json"))
    expect(page.locator("#toast")).to_contain_text("newer.json: It is a receiver of version 7")
    page.locator("#own-receivers input[type=file]").set_input_files(str(tmp_path / "other.json"))
    expect(page.get_by_label("Receiver", exact=True).locator("option", has_text="For doors")).to_have_count(1)


@pytest.mark.deep
def test_a_piece_travels_and_a_batch_runs_from_the_shelf(quiet: Page, server, ring_files, tmp_path):
    page = quiet
    to_a_baked_piece(page, server, ring_files)
    with page.expect_download() as download:
        page.get_by_role("link", name="Save as .icast").click()
    download.value.save_as(tmp_path / "ring.icast")
    page.goto(f"{server}/")
    (tmp_path / "broken.icast").write_bytes(b"nothing")
    page.locator("#open-piece").set_input_files(str(tmp_path / "broken.icast"))
    expect(page.get_by_role("alert").first).to_contain_text("broken.icast: It is no piece file")
    page.locator("#open-piece").set_input_files(str(tmp_path / "ring.icast"))
    page.wait_for_url(re.compile(r"/pieces/\d+"), timeout=SLOW)
    ready(page)
    expect(page.locator("#likeness")).to_be_visible()
    page.goto(f"{server}/")
    expect(page.locator(".card")).to_have_count(2)
    page.locator("input[name=piece]").first.check()
    page.get_by_label("Receiver", exact=True).select_option("Object space")
    page.get_by_label("Folder on this machine").fill("nowhere")
    page.get_by_role("button", name="Bake and hand off").click()
    expect(page.locator("#batches .problem")).to_contain_text("no whole path")
    page.get_by_label("Folder on this machine").fill(str(tmp_path / "out"))
    page.get_by_role("button", name="Bake and hand off").click()
    expect(page.locator("#batches")).to_contain_text("1 of 1 done", timeout=SLOW)
    assert (tmp_path / "out" / "summary.json").is_file()


def test_the_guide_opens_from_a_step(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    with page.expect_popup() as popup:
        page.locator("#panel").get_by_role("link", name="Guide").click()
    expect(popup.value.get_by_role("heading", name="Cage", exact=True)).to_be_visible()


def test_a_material_is_added_coloured_and_assigned(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    page.locator("#steps").get_by_role("link", name="Maps").click()
    page.locator("#library > summary").click()
    page.get_by_label("Name of a new material").fill("Brass")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_label("Name of the material Brass")).to_be_visible()
    page.get_by_label("Colour of Brass", exact=True).evaluate(
        "(own) => { own.value = '#c0a040'; own.dispatchEvent(new Event('change', {bubbles: true})); }"
    )
    expect(page.get_by_label("Colour of Brass", exact=True)).to_have_value("#c0a040")
    page.get_by_label("Material of object ring_high").select_option("Brass")
    expect(page.get_by_label("Material of object ring_high")).to_have_value("Brass")
