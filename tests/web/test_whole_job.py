"""The whole job: by keyboard alone, with few controls in sight, with two hundred parts, with five million triangles."""

import re
from dataclasses import replace

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.mesh import subset
from inkwell_cast.store import Store
from inkwell_cast.web.services.services import Services

from ..conftest import running
from ..shapes import many_rings, torus
from .browser import DIFFERS, SLOW, in_model, make_piece, model_picture, open_ring, picture_other_than, ready

MOST_TABS = 150
STEPS = ("Meshes", "Cage", "Basis", "Maps", "Review", "Handoff")


@pytest.fixture
def roomy(tmp_path, shared_engine):
    """The address of a server that takes large files, over a store of its own."""
    services = Services(Store(tmp_path / "roomy"), shared_engine)
    with running(services) as address:
        yield address
    services.store.close()


def tab_to(page: Page, selector: str) -> None:
    """Press Tab until an element has the focus."""
    for _ in range(MOST_TABS):
        if page.evaluate("(s) => Boolean(document.activeElement?.matches(s))", selector):
            return
        page.keyboard.press("Tab")
    pytest.fail(f"{MOST_TABS} times Tab do not reach {selector}")


@pytest.mark.deep
def test_from_files_to_handoff_by_keyboard_alone(quiet: Page, server, ring_files, tmp_path):
    page, place = quiet, tmp_path / "textures"
    # Listening from the start: a listener set with the key that opens the dialog is now and then too late for it.
    page.on("filechooser", lambda chooser: chooser.set_files([str(path) for path in ring_files]))
    page.goto(server)
    tab_to(page, "a[href='/new']")
    page.keyboard.press("Enter")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    tab_to(page, "#files")
    page.keyboard.press("Enter")
    expect(page.locator("#make")).to_be_enabled(timeout=SLOW)
    tab_to(page, "#make")
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile(r"/pieces/\d+"))
    ready(page)
    page.keyboard.press("Escape")  # the tour's line, where it is offered
    page.keyboard.press("4")
    for name, texels in (("sheet.width", "64"), ("sheet.height", "48")):
        tab_to(page, f"input[name='{name}']")
        page.keyboard.press("Control+A")
        page.keyboard.type(texels)
        with page.expect_response(lambda r: "/settings/maps" in r.url):
            page.keyboard.press("Enter")
    expect(page.locator("#full-bake")).to_have_attribute("title", re.compile("^64 × 48;"))
    page.keyboard.press("Escape")
    page.keyboard.press("b")
    expect(page.locator("#table")).to_have_attribute("data-ended", "1", timeout=SLOW)
    page.keyboard.press("5")
    expect(page.locator("#likeness")).to_be_visible()
    page.keyboard.press("6")
    tab_to(page, "#panel input[name='place']")
    page.keyboard.type(str(place))
    tab_to(page, "#hand-off")
    page.keyboard.press("Enter")
    expect(page.locator("#handed")).to_contain_text("files are in", timeout=SLOW)
    assert {"manifest.json"} < {path.name for path in place.iterdir()}


# A field, a switch, a set of choices or a button is one control; so is a fold. What a list holds is what the panel
# shows, not what it asks for, `?` and the guide only explain, and a field's own button is of the field.
IN_SIGHT = """() => {
  const kinds = "fieldset.choice, input, select, button, summary, textarea", explains = ".why > summary, .help, [type=hidden]";
  const seen = (e) => { const r = e.getBoundingClientRect(); return r.height > 0 && r.top < innerHeight && e.checkVisibility(); };
  const parts = (e) => e.closest("fieldset.choice") !== null && !e.matches("fieldset") || e.closest("li, svg") !== null || e.matches("label.field > button");
  const named = (e) => (e.querySelector("legend") ?? e.closest("label") ?? e).textContent.trim() || e.name;
  return [...document.querySelectorAll("#panel :is(" + kinds + ")")].filter((e) => seen(e) && !e.matches(explains) && !parts(e)).map(named);
}"""


@pytest.mark.deep
def test_at_first_look_no_step_has_more_than_seven_controls(alive: Page, ring):
    page, wrong = alive, {}
    page.set_viewport_size({"width": 1280, "height": 800})
    open_ring(page, ring)
    expect(page.locator("#table")).to_have_attribute("data-renewed", "1", timeout=SLOW)
    for step in STEPS:
        page.get_by_role("link", name=step, exact=True).click()
        expect(page.locator("#steps .here")).to_have_text(step)
        expect(page.locator("#measuring")).to_have_count(0, timeout=SLOW)
        controls = page.evaluate(IN_SIGHT)
        if len(controls) > 7:
            wrong[step] = controls
        assert page.evaluate("() => document.getElementById('panel').scrollTop") == 0
        page.evaluate(
            "() => { document.getElementById('panel').scrollTop = 500; }"
        )  # the next one is read from its top
    assert not wrong, wrong


def piece_of(page: Page, address: str, *paths) -> None:
    """A piece of files read where they lie, opened in Cage."""
    page.goto(f"{address}/new")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    page.get_by_text("Or read a file where it lies").click()
    for n, path in enumerate(paths, 1):
        page.get_by_label("Path").fill(str(path))
        page.get_by_role("button", name="Read", exact=True).click()
        expect(page.locator("#list li[data-state=read]")).to_have_count(n, timeout=SLOW)
    page.get_by_role("button", name="Make the piece").click()
    page.wait_for_url(re.compile(r"/pieces/\d+"))
    page.goto(page.url.split("?")[0] + "?step=meshes&plain")
    ready(page)


@pytest.mark.deep
def test_two_hundred_parts_are_two_draws_and_any_is_found_by_typing(quiet: Page, roomy, tmp_path):
    page = quiet
    write_mesh(tmp_path / "chain_low.glb", many_rings(200, 8, 6, "_low"))
    write_mesh(tmp_path / "chain_high.glb", many_rings(200, 24, 12, "_high"))
    piece_of(page, roomy, tmp_path / "chain_low.glb", tmp_path / "chain_high.glb")
    expect(page.locator("#pairs li.pair-row")).to_have_count(200)
    page.get_by_label("Search pairs and parts").fill("ring137")
    expect(page.locator("#pairs li.pair-row:visible")).to_have_count(1)
    page.locator("[data-show=both]").click()
    expect(page.locator("[data-show=both]")).to_have_attribute("aria-pressed", "true")
    assert in_model(page, "model.scenes.low.children.length + model.scenes.sculpt.children.length") == 2
    page.locator("#parts summary").click()
    expect(page.locator("#parts-list li")).to_have_count(200)
    page.locator("#spread").fill("1")
    page.locator("#parts-list li input").first.uncheck()
    assert in_model(page, "model.hiddenParts.size") == 1
    assert in_model(page, "model.scenes.low.children.length") == 1  # apart and partly hidden it is one draw still


@pytest.mark.deep
def test_five_million_triangles_are_looked_at_by_their_stand_in_and_near_by_as_they_are(alive: Page, roomy, tmp_path):
    page = alive
    write_mesh(tmp_path / "reef_low.obj", torus(40, 20, name="reef_low"))
    write_mesh(tmp_path / "reef_high.ply", replace(torus(2240, 1120, name="reef_high"), uvs=()))
    piece_of(page, roomy, tmp_path / "reef_low.obj", tmp_path / "reef_high.ply")
    expect(page.locator("#panel")).to_contain_text(re.compile(r"5\D017\D600 triangles"))
    expect(page.locator("#table")).to_have_attribute("data-renewed", "1", timeout=SLOW)
    assert in_model(page, "model.standIn")
    drawn = in_model(page, "model.scenes.sculpt.children[0].geometry.attributes.position.count")
    assert 100_000 < drawn < 2_000_000
    page.locator("[data-show=sculpt]").click()
    picture = model_picture(page)
    assert (np.abs(picture - picture[0, 0]).max(axis=2) > DIFFERS).mean() > 0.1  # there is something to be seen
    in_model(page, "model.turnTo(new Float32Array(0), [[2.7, 0, 0], 0.05], 0.01)")
    expect(page.locator("#model-readout")).to_contain_text("Here the sculpt is drawn with every triangle", timeout=SLOW)
    children = "model.scenes.sculpt.children"
    assert in_model(page, f"{children}.length") == 2
    assert in_model(page, f"{children}[0].material.uniforms.ball.value.w") < 0  # the stand-in is open there
    finer = in_model(page, f"{children}[1].geometry.attributes.position.count")
    assert finer > 2000
    page.keyboard.press("f")
    while in_model(page, f"{children}.length") > 1:
        page.wait_for_timeout(100)
    assert in_model(page, f"{children}[0].material.uniforms.ball.value.w") == 0
    page.locator("[data-show=wipe]").click()
    expect(page.locator("#live-words")).not_to_contain_text("was")
    expect(page.locator("#checks")).not_to_contain_text("Checking the meshes", timeout=SLOW)


def test_what_the_graphics_driver_dropped_is_drawn_again(quiet: Page, server, piece):
    page = quiet
    page.goto(f"{server}{piece}?step=meshes&plain")
    ready(page)
    before = model_picture(page)
    page.evaluate("""() => new Promise((done) => {
      const canvas = document.querySelector("#model canvas"), held = canvas.getContext("webgl2").getExtension("WEBGL_lose_context");
      canvas.addEventListener("webglcontextlost", () => setTimeout(() => held.restoreContext(), 100));
      canvas.addEventListener("webglcontextrestored", done);
      held.loseContext();
    })""")
    assert np.abs(picture_other_than(page, before, differs=False) - before).max() < DIFFERS


@pytest.mark.deep
def test_marks_that_come_after_their_finding_was_closed_are_not_drawn(quiet: Page, server, ring_files, tmp_path):
    page, high = quiet, read_mesh(ring_files[1])
    write_mesh(tmp_path / "ring_high.ply", subset(high, np.arange(len(high.triangles)) > 400))
    make_piece(page, server, [ring_files[0], tmp_path / "ring_high.ply"])
    page.get_by_role("link", name="Meshes").click()
    finding = page.locator(".finding summary", has_text="Open sculpt")
    expect(finding).to_be_visible(timeout=SLOW)
    marks, before = [], model_picture(page)
    page.route("**/marks", lambda route: marks.append(route))
    finding.click()
    while not marks:
        page.wait_for_timeout(50)
    finding.click()
    with page.expect_response("**/marks"):
        marks[0].continue_()
    page.wait_for_timeout(1000)
    assert np.abs(model_picture(page) - before).max() < DIFFERS
    page.unroute("**/marks")
    finding.click()
    assert np.abs(picture_other_than(page, before) - before).max() > DIFFERS
