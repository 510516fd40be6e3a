"""The pages in a real browser, from dropped files to a downloaded picture whose pixels are checked."""

import re
from dataclasses import replace

import cv2
import httpx
import numpy as np
import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.mesh import values_at_corners
from inkwell_cast.core.mesh.transforms import transformed
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.recipe import Recipe

from .browser import (
    DIFFERS,
    SLOW,
    drawn,
    full_bake,
    make_piece,
    model_picture,
    open_ring,
    picture_other_than,
    ready,
    set_size,
    unfold,
)


def test_from_files_to_a_downloaded_picture(quiet: Page, server, ring_files, tmp_path):
    page = quiet
    make_piece(page, server, ring_files)
    page.locator("input[name='reach.outward']").fill("3")
    with page.expect_response(lambda r: "/settings/cage" in r.url):
        page.locator("input[name='reach.outward']").press("Tab")
    set_size(page, 96, 64)
    full_bake(page)
    assert 0 < float(page.locator("#likeness").inner_text().rstrip("°")) < 5
    expect(page.locator("#best-on-low")).to_contain_text("is the best on this low")

    worn = model_picture(page)
    page.keyboard.press("m")
    expect(page.locator("#maps-on")).to_have_attribute("aria-pressed", "false")
    bare = picture_other_than(page, worn)
    assert np.abs(worn - bare).max() > DIFFERS  # the map is seen on the model
    page.get_by_role("button", name="Sculpt", exact=True).click()
    assert np.abs(picture_other_than(page, bare) - bare).max() > DIFFERS
    page.get_by_role("button", name="Wipe").click()
    expect(page.get_by_role("slider", name="Wipe")).to_be_visible()

    page.get_by_role("link", name="Handoff").click()
    unfold(page, "handoff-more")
    page.get_by_text("Single files of this bake").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="Download normal", exact=True).click()
    download.value.save_as(tmp_path / "normal.png")
    image = cv2.imread(str(tmp_path / "normal.png"), cv2.IMREAD_UNCHANGED)[..., ::-1]
    recipe = Recipe.model_validate({"reach": {"outward": 3}, "sheet": {"width": 96, "height": 64}})
    expected = bake(recipe, BakeMeshes(*[[read_mesh(path)] for path in ring_files])).images["normal"]
    np.testing.assert_array_equal(image, expected)


def test_a_path_that_is_typed_while_another_file_is_read_stays(quiet: Page, server, ring_files):
    page, held = quiet, []
    page.goto(f"{server}/new")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    page.get_by_text("Or read a file where it lies").click()
    page.route("**/uploads/from", lambda route: held.append(route))
    page.get_by_label("Path").fill(str(ring_files[0]))
    page.get_by_role("button", name="Read", exact=True).click()
    expect(page.locator("#list li[data-state=coming]")).to_have_count(1)
    page.get_by_label("Path").fill(str(ring_files[1]))
    while not held:
        page.wait_for_timeout(20)
    held[0].continue_()
    expect(page.locator("#list li[data-state=read]")).to_have_count(1, timeout=SLOW)
    expect(page.get_by_label("Path")).to_have_value(str(ring_files[1]))


@pytest.mark.deep
def test_a_high_of_other_units_is_shown_in_place_before_it_is_laid_there(quiet: Page, server, ring_files, tmp_path):
    page, high = quiet, read_mesh(ring_files[1])
    matrix = np.array([[100, 0, 0, 0], [0, 0, 100, 0], [0, -100, 0, 0], [0, 0, 0, 1]], float)
    write_mesh(tmp_path / "ring_high.ply", transformed(high, matrix))
    make_piece(page, server, [ring_files[0], tmp_path / "ring_high.ply"])
    page.get_by_role("link", name="Meshes").click()
    page.locator(".finding summary", has_text="Low and high lie apart").click()
    look = page.get_by_role("button", name="Show it first")
    apart, there = model_picture(page), look.get_attribute("data-move")
    assert drawn(page)["sculptAt"] == np.eye(4).ravel().tolist()
    look.click()
    expect(look).to_have_attribute("aria-pressed", "true")
    expect(page.locator("[data-show=both]")).to_have_attribute("aria-pressed", "true")
    assert drawn(page)["sculptAt"] == [float(value) for value in there.split()]
    assert np.abs(picture_other_than(page, apart) - apart).max() > DIFFERS
    page.evaluate("document.body.dispatchEvent(new Event('meshes-changed'))")  # as when a file changed on the disk
    expect(page.locator("#table")).to_have_attribute("data-views", "loading")
    ready(page)
    assert drawn(page)["sculptAt"] == [float(value) for value in there.split()]
    moved = model_picture(page)
    look.click()
    expect(look).to_have_attribute("aria-pressed", "false")
    assert drawn(page)["sculptAt"] == np.eye(4).ravel().tolist()
    assert np.abs(picture_other_than(page, moved) - moved).max() > DIFFERS, drawn(page)
    page.get_by_role("button", name=re.compile("^(Turn and scale|Scale)")).click()
    expect(page.locator(".finding summary", has_text="Low and high lie apart")).to_have_count(0, timeout=SLOW)


def test_one_pointer_in_both_views(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    set_size(page, 64, 64)
    full_bake(page)
    box = page.locator("#sheet").bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    expect(page.locator("#model-readout")).to_contain_text("struck ring_high", timeout=SLOW)
    expect(page.locator("#sheet-readout")).to_contain_text(re.compile("texel 3[12], 3[12] "))
    box = page.locator("#model").bounding_box()
    for share in (0.25, 0.28, 0.3):
        page.mouse.move(box["x"] + box["width"] * share, box["y"] + box["height"] * 0.55)
        page.wait_for_timeout(200)
    expect(page.locator("#sheet-readout")).not_to_contain_text("texel 32, 32", timeout=SLOW)
    page.evaluate("const s = document.getElementById('spread'); s.value = 0.5; s.dispatchEvent(new Event('input'))")
    before = page.locator("#sheet-readout").inner_text()
    page.evaluate(  # within one frame: the last place counts; parts apart are read too
        """([x, y, w, h]) => {
          for (const [u, v] of [[0.4, 0.55], [0.22, 0.6]]) document.querySelector("#model canvas").dispatchEvent(
            new PointerEvent("pointermove", { clientX: x + w * u, clientY: y + h * v }));
        }""",
        [box["x"], box["y"], box["width"], box["height"]],
    )
    expect(page.locator("#sheet-readout")).not_to_have_text(before, timeout=SLOW)


def test_a_bad_file_is_told_in_its_row_and_can_be_removed(quiet: Page, server, ring_files, tmp_path):
    page = quiet
    (tmp_path / "broken.glb").write_bytes(b"nothing of the kind, just words")
    page.goto(f"{server}/new")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    page.locator("#files").set_input_files([str(tmp_path / "broken.glb")])
    alert = page.get_by_role("alert").first
    expect(alert).to_contain_text("broken.glb: It is not a GLB file", timeout=SLOW)
    page.get_by_role("button", name="Remove").click()
    expect(alert).to_be_hidden()
    expect(page.get_by_role("button", name="Make the piece")).to_be_disabled()


def test_a_bake_shows_progress_and_is_cancelled(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    set_size(page, 4096, 4096)
    page.locator("label", has_text=re.compile("^16$")).click()
    page.get_by_role("button", name="Full bake").click()
    expect(page.get_by_role("progressbar", name="Bake")).to_be_visible(timeout=SLOW)
    page.get_by_role("button", name="Cancel").click()
    expect(page.get_by_role("button", name="Full bake")).to_be_visible(timeout=SLOW)
    expect(page.locator("#drawer")).to_contain_text("Cancelled", timeout=SLOW)


def test_the_keyboard_and_settings_that_are_out_of_range(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    page.keyboard.press("?")
    expect(page.get_by_text("low, sculpt, both, wipe in turn")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("4")
    expect(page.get_by_role("heading", name="Maps", exact=True)).to_be_visible()
    page.locator("input[name='sheet.width']").fill("17000")
    page.locator("input[name='sheet.width']").press("Tab")
    expect(page.get_by_role("alert").first).to_contain_text("17000 cannot be used")
    page.keyboard.press("Escape")
    page.keyboard.press("p")
    expect(page.locator("#likeness")).to_be_visible(timeout=SLOW)
    expect(page.locator("#sheet-fact")).to_contain_text("64 × 64")


@pytest.mark.deep
@pytest.mark.parametrize("size", [(1280, 800), (1920, 1080)])
def test_nothing_runs_off_the_window(quiet: Page, ring, size):
    page = quiet
    page.set_viewport_size({"width": size[0], "height": size[1]})
    open_ring(page, ring)
    for step in ("meshes", "cage", "basis", "maps"):
        page.goto(page.url.split("?")[0] + f"?step={step}&plain")
        assert page.evaluate("document.documentElement.scrollWidth") <= size[0]
        assert page.evaluate("document.documentElement.scrollHeight") <= size[1]
        panel = page.locator("#panel")
        assert panel.evaluate("e => e.scrollWidth <= e.clientWidth")


def test_findings_turn_the_views_and_a_fix_is_undone(quiet: Page, server, ring_files, tmp_path):
    page = quiet
    low = read_mesh(ring_files[0])
    uvs = low.uvs[0].at_corners() + np.float32(1)
    write_mesh(tmp_path / "ring_low.glb", replace(low, uvs=(values_at_corners(uvs),)))
    make_piece(page, server, [tmp_path / "ring_low.glb", ring_files[1]])
    page.get_by_role("link", name="Meshes").click()
    page.get_by_text("UVs outside the tile").click(timeout=SLOW)
    before = model_picture(page)
    expect(page.get_by_text("they wrap around into it")).to_be_visible()
    page.get_by_role("button", name="Move islands into the tile").click()
    expect(page.get_by_text("Nothing to object to.")).to_be_visible(timeout=SLOW)
    ready(page)
    assert np.abs(model_picture(page) - before).max() > DIFFERS
    page.keyboard.press("Control+z")
    expect(page.get_by_text("UVs outside the tile")).to_be_visible(timeout=SLOW)
    page.keyboard.press("j")
    expect(page.get_by_text("they wrap around into it")).to_be_visible()


def test_a_part_is_dragged_to_another_pair(quiet: Page, server, ring_files, tmp_path):
    page = quiet
    extra = tmp_path / "knob_high.ply"
    extra.write_bytes(ring_files[1].read_bytes())
    make_piece(page, server, [*ring_files, extra])
    page.goto(page.url.split("?")[0] + "?step=meshes&plain")
    ready(page)
    expect(page.locator("#alone")).to_contain_text("no low is called knob_low")
    page.locator("#alone .part").drag_to(page.locator(".pair-row").first)
    expect(page.locator(".pair-row").first).to_contain_text("1 ← 2", timeout=SLOW)
    expect(page.locator("#alone")).to_be_hidden()


@pytest.mark.deep
def test_a_bake_that_ends_while_the_panel_is_fetched_is_shown_all_the_same(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    own = "bake-box"  # the requests of the bar, which name no element, are held back
    page.route(
        "**/progress", lambda r: r.fallback() if r.request.headers.get("hx-trigger") == own else r.fulfill(status=204)
    )
    page.keyboard.press("p")
    expect(page.locator("#bake-box .baking")).to_be_visible()
    while httpx.get(page.url.split("?")[0] + "/progress").text.count("baking"):
        page.wait_for_timeout(100)
    page.get_by_role("link", name="Maps").click()
    expect(page.locator("#likeness")).to_be_visible(timeout=SLOW)


@pytest.mark.deep
@pytest.mark.parametrize("moment", ["htmx:beforeRequest", "htmx:afterSwap"])
def test_a_bake_whose_box_is_replaced_is_shown_all_the_same(quiet: Page, ring, moment):
    """A panel that was asked for before brings an idle box, before the bake's answer is there or just after."""
    page = quiet
    open_ring(page, ring)
    page.evaluate(
        """(moment) => {
        let once = false;
        document.body.addEventListener(moment, (e) => {
            if (once || !/bake/.test(e.detail.pathInfo?.requestPath)) return;
            once = true;
            document.querySelector("#bake-box").outerHTML = '<div id="bake-box"><button>older</button></div>';
        });
    }""",
        moment,
    )
    page.locator("#model canvas").focus()
    page.keyboard.press("p")
    expect(page.locator("#likeness")).to_be_visible(timeout=SLOW)


def test_maps_are_chosen_baked_and_their_range_and_colours_set(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    page.get_by_role("link", name="Maps").click()
    for group in ("light", "masks", "shape"):
        unfold(page, f"maps-{group}")
    for name in ("Occlusion", "Curvature", "Height", "ID colours"):
        with page.expect_response(lambda r: "/settings/maps" in r.url):
            page.get_by_label(name, exact=True).check()
    page.keyboard.press("Escape")
    page.locator("#model canvas").focus()
    page.keyboard.press("p")
    expect(page.locator("#likeness")).to_be_visible(timeout=SLOW)
    page.get_by_role("link", name="Maps").click()
    page.get_by_label("Map", exact=True).select_option("height")
    before = model_picture(page)
    page.locator("#map-height > summary").click()
    handle = page.get_by_role("slider", name="White at, scene units")
    handle.focus()
    with page.expect_response(lambda r: "/settings/maps" in r.url):
        page.keyboard.press("ArrowLeft")
    expect(page.locator("#map-height")).to_have_attribute("open", "")
    page.locator("input[name='height.range']").fill("0.001")
    with page.expect_response(lambda r: "/settings/maps" in r.url):
        page.locator("input[name='height.range']").press("Tab")
    page.locator("#map-ids > summary").click()
    page.locator("#map-ids input[type=color]").fill("#ff8800")
    expect(page.get_by_role("button", name="reset")).to_be_visible(timeout=SLOW)
    ended = page.locator("#table").get_attribute("data-ended")
    page.locator("#model canvas").focus()
    page.keyboard.press("p")
    expect(page.locator("#table")).to_have_attribute("data-ended", str(int(ended) + 1), timeout=SLOW)
    assert np.abs(model_picture(page) - before).max() > 60  # clipped texels are hatched
    page.get_by_label("Map", exact=True).select_option("ids")
    box = page.locator("#model").bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.3, box["y"] + box["height"] * 0.55)
    expect(page.locator("#sheet-readout")).to_contain_text("id colours no material", timeout=SLOW)
