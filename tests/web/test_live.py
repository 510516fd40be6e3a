"""The live proof in a real browser: it follows every change, what is newer ends what is older, nothing stale unsaid."""

import re

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.piece.piece import BakeMeshes

from ..shapes import torus
from .browser import SLOW, drawn, model_picture, open_ring, ready, renewed


def lived(page: Page) -> int:
    return int(page.locator("#table").get_attribute("data-lived") or 0)


def type_reach(page: Page, value: str) -> None:
    field = page.locator("input[name='reach.outward']")
    field.fill(value)
    with page.expect_response(lambda r: "/settings/cage" in r.url):
        field.press("Enter")


def test_the_map_follows_every_change_and_says_what_is_of_an_older_state(alive: Page, services, ring_files, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    words = page.locator("#live-words")
    expect(words).to_have_text(re.compile(r"^\d+\.\d\d° · \d+ flaws?$"))
    page.evaluate(  # every state that the words pass through
        "window.said = []; new MutationObserver(() => said.push(document.getElementById('live-words').textContent))"
        ".observe(document.getElementById('live-words'), { childList: true })"
    )
    before = lived(page)
    type_reach(page, "5.5")
    renewed(page, 2)
    said = page.evaluate("said")
    assert re.match(r"was .*° · was \d+ flaws?$", said[0])
    assert any(re.match(r"^\d+\.\d\d° · was \d+ flaws?$", each) for each in said)
    assert not said[-1].startswith("was")
    assert lived(page) > before + 1  # a first look, then all its samples
    type_reach(page, "6.5")
    renewed(page, 3)
    expect(page.locator("#bakes-count")).to_have_text("1")  # history holds no proof that nobody stayed with
    row = services.bakes.get(services.bakes.newest(1)[0].id)
    assert row.live
    assert row.recipe.reach.outward == 6.5
    picture = cv2.imread(str(services.bakes.picture(row.id, "", "normal")))[..., ::-1]
    expected = bake(row.recipe, BakeMeshes(*[[read_mesh(path)] for path in ring_files])).images["normal"]
    np.testing.assert_array_equal(picture, expected)


def test_undo_and_redo_renew_the_proof_as_any_change_does(alive: Page, services, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    type_reach(page, "5.5")
    renewed(page, 2)
    for times, (keys, reach) in enumerate((("Control+z", 1.5), ("Control+Shift+z", 5.5)), 3):
        page.locator("h1").first.click()  # out of the field
        page.keyboard.press(keys)
        renewed(page, times)
        assert services.bakes.get(services.bakes.newest(1)[0].id).recipe.reach.outward == reach


@pytest.mark.deep
def test_a_newer_change_ends_what_an_older_one_began(alive: Page, services, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    for value in ("3.5", "4.5", "5.5"):
        type_reach(page, value)
    renewed(page, 2)  # one renewal for three changes
    expect(page.locator("body")).to_have_attribute("data-live", "current")
    assert services.bakes.get(services.bakes.newest(1)[0].id).recipe.reach.outward == 5.5


def test_the_map_follows_a_handle_while_it_is_dragged(alive: Page, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    expect(page.locator("#covered")).to_be_attached(timeout=SLOW)
    handle = page.locator("#reach-rule .handle").last.bounding_box()
    x, y = handle["x"] + handle["width"] / 2, handle["y"] + 20
    page.mouse.move(x, y)
    page.mouse.down()
    before = lived(page)
    for n in range(12):
        page.mouse.move(x - n, y)
        page.wait_for_timeout(120)
    expect(page.locator("#sheet-fact")).to_contain_text("live, first look")
    assert lived(page) > before + 1
    expect(page.locator("#live-words")).to_have_class(re.compile("old"))
    page.mouse.up()
    renewed(page, 2)


def test_it_is_held_still_on_wish_and_p_keeps_one_by_hand(alive: Page, services, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    first = services.bakes.newest(1)[0]
    page.keyboard.press("p")  # what is there already is kept, and nothing baked
    expect(page.locator("#table")).to_have_attribute("data-ended", "1", timeout=SLOW)
    kept = services.bakes.newest(1)[0]
    assert (kept.id, kept.live) == (first.id, False)
    page.locator("#live").click()
    expect(page.locator("#live")).to_have_attribute("aria-pressed", "false")
    page.get_by_role("link", name="Cage").click()
    type_reach(page, "7.5")
    page.wait_for_timeout(1500)
    assert services.bakes.newest(1)[0].id == first.id
    expect(page.locator("#sheet-fact")).to_contain_text("changed since")
    expect(page.locator("#live-words")).to_have_text(re.compile(r"^was .*° · was \d+ flaws?$"))
    page.reload()
    ready(page)
    expect(page.locator("#live")).to_have_attribute("aria-pressed", "false")  # it remembers
    page.locator("#live").click()
    renewed(page, 1)
    assert services.bakes.newest(1)[0].id > first.id


@pytest.mark.deep
def test_a_proof_that_is_named_or_compared_stays(alive: Page, services, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    page.get_by_role("tab", name="Bakes").click()
    page.locator("[id^=bake-menu] summary").click()
    page.get_by_label("Name", exact=True).fill("the first")
    page.get_by_label("Name", exact=True).press("Enter")
    expect(page.locator(".bakes")).to_contain_text("the first")
    type_reach(page, "5.5")
    renewed(page, 2)
    expect(page.locator(".bakes > li")).to_have_count(2)
    page.locator("[id^=bake-menu]").last.evaluate("menu => { menu.open = true; }")
    page.get_by_role("button", name="Wipe against the one shown").last.click()
    expect(page.locator("#against")).to_be_visible()
    page.keyboard.press("d")
    expect(page.locator("#against-words")).to_contain_text("eight times what differs")
    type_reach(page, "6.5")
    renewed(page, 3)
    expect(page.locator(".bakes > li")).to_have_count(3)


@pytest.mark.deep
def test_a_tab_that_was_left_shows_what_changed_elsewhere(alive: Page, context, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    other = context.new_page()
    other.goto(page.url)
    ready(other)
    type_reach(other, "6.25")
    renewed(other, 1)
    expect(page.locator("input[name='reach.outward']")).not_to_have_value("6.25")
    page.bring_to_front()
    page.evaluate("dispatchEvent(new Event('focus'))")
    expect(page.locator("input[name='reach.outward']")).to_have_value("6.25", timeout=SLOW)
    expect(page.locator("#live-words")).to_have_text(re.compile(r"^\d+\.\d\d°"), timeout=SLOW)


@pytest.mark.deep
def test_files_are_read_and_looked_at_during_a_long_bake_which_is_listed_and_stopped(
    alive: Page, server, services, ring_files, ring
):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    services.settings.change(
        1,
        "larger",
        lambda r: r.model_copy(
            update={"sheet": r.sheet.model_copy(update={"width": 8192, "height": 8192, "samples": 16})}
        ),
    )
    bake_id = services.bakes.start(1, False)
    page.reload()
    ready(page)  # drawn, though the bake is at work
    page.locator("#at-work summary").click(timeout=SLOW)
    line = page.locator("#at-work li", has_text="Full bake")
    expect(line).to_contain_text(re.compile("since"))
    other = page.context.new_page()
    other.goto(f"{server}/new")
    expect(other.locator("#list")).to_have_attribute("data-ready", "yes")
    other.locator("#files").set_input_files([str(path) for path in ring_files])
    expect(other.get_by_role("button", name="Make the piece")).to_be_enabled(timeout=SLOW)
    assert services.bakes.get(bake_id).open
    page.get_by_role("button", name="Stop Full bake").click()
    expect(page.locator("#at-work li", has_text="Full bake")).to_have_count(0, timeout=SLOW)
    assert services.bakes.get(bake_id).state == "cancelled"


def test_a_new_piece_waits_for_all_its_files_and_guesses_roles(alive: Page, server, tmp_path):
    page = alive
    write_mesh(tmp_path / "shell.obj", torus(20, 10))
    write_mesh(tmp_path / "scan.ply", torus(200, 100))
    page.goto(f"{server}/new")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    page.route("**/uploads?*", lambda route: (page.wait_for_timeout(300), route.continue_()))
    page.locator("#files").set_input_files([str(tmp_path / "shell.obj"), str(tmp_path / "scan.ply")])
    expect(page.locator("#why")).to_have_text(re.compile("still being read"))
    expect(page.get_by_role("button", name="Make the piece")).to_be_disabled()
    expect(page.get_by_label("Role of shell.obj")).to_have_value("low", timeout=SLOW)
    expect(page.get_by_label("Role of scan.ply")).to_have_value("high", timeout=SLOW)
    expect(page.locator(".guess").last).to_have_text(re.compile("Guessed: 100 times the triangles of shell.obj"))
    page.get_by_role("button", name="Make the piece").click()
    page.wait_for_url(re.compile(r"/pieces/\d+"))
    ready(page)


def test_a_folder_is_taken_with_all_that_can_be_read_in_it(alive: Page, server, ring_files, tmp_path):
    page = alive
    deep = tmp_path / "ring" / "meshes"
    deep.mkdir(parents=True)
    for path in ring_files:
        (deep / path.name).write_bytes(path.read_bytes())
    (tmp_path / "ring" / "notes.txt").write_text("not a mesh")
    page.goto(f"{server}/new")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    page.locator("#folder").set_input_files(str(tmp_path / "ring"))
    expect(page.get_by_role("button", name="Make the piece")).to_be_enabled(timeout=SLOW)
    expect(page.locator("#list > li")).to_have_count(2)
    files = page.evaluate(  # and as a drop gives it: an entry with readers
        """async () => {
          const { filesOf, acceptedBy } = await import("/static/panels/upload.js");
          const file = (name) => ({ isFile: true, file: (done) => done(new File(["x"], name)) });
          const folder = (...inner) => { let left = [inner, []]; return { isDirectory: true, createReader: () => ({ readEntries: (done) => done(left.shift()) }) }; };
          const entry = folder(file("a_low.obj"), folder(file("a_high.ply"), file("read me.txt")));
          const found = await filesOf({ items: [{ webkitGetAsEntry: () => entry }], files: [] }, acceptedBy(document.getElementById("files")));
          return found.map((each) => each.name);
        }"""
    )
    assert files == ["a_low.obj", "a_high.ply"]


@pytest.mark.deep
def test_the_tour_goes_through_five_steps_and_is_offered_once(alive: Page, ring):
    page = alive
    open_ring(page, ring)
    renewed(page, 1)
    page.keyboard.press("?")
    page.get_by_role("button", name="Take the tour").click()
    tour = page.get_by_role("dialog", name="Tour")
    for n, step in enumerate(("Meshes", "Cage", "Maps", "Review", "Handoff"), 1):
        expect(tour).to_contain_text(f"{n} of 5")
        expect(page.locator("#steps .here")).to_have_text(step)
        page.keyboard.press("Enter")
    expect(tour).to_be_hidden()
    page.keyboard.press("?")
    page.get_by_role("button", name="Take the tour").click()
    page.keyboard.press("Escape")
    expect(tour).to_be_hidden()


@pytest.mark.parametrize("kind", ["png", pytest.param("turntable", marks=pytest.mark.deep)])
def test_what_the_view_shows_is_saved(alive: Page, ring, tmp_path, kind):
    page = alive
    open_ring(page, ring)
    page.locator("#picture summary").click()
    name = "PNG 2×" if kind == "png" else "Turntable"
    with page.expect_download(timeout=SLOW) as download:
        page.locator("#picture").get_by_text(name).click()
    path = tmp_path / download.value.suggested_filename
    download.value.save_as(path)
    if kind == "png":
        width = page.locator("#model").bounding_box()["width"]
        assert abs(cv2.imread(str(path)).shape[1] - 2 * width) <= 2
    else:
        assert path.suffix == ".webp"
        assert path.read_bytes()[30:34] == b"ANIM"


def test_the_step_cage_leaves_the_view_as_it_is_and_goes_to_its_worst_place_on_wish(quiet: Page, services, ring):
    page = quiet
    open_ring(page, ring)
    page.get_by_role("link", name="Meshes").click()
    small = services.pieces.get(1)[0].recipe.reach.model_copy(update={"outward": 0.01, "inward": 0.01})
    services.settings.change(1, "Reach", lambda r: r.model_copy(update={"reach": small}))
    page.get_by_role("tab", name="Section").click()

    def laid():
        """The camera, what is shown, and the drawer."""
        pressed = page.locator("[aria-pressed=true], [aria-selected=true]").evaluate_all("all => all.map((e) => e.id)")
        return drawn(page)["from"], drawn(page)["show"], pressed

    before = laid()
    page.get_by_role("link", name="Cage").click()
    there = page.get_by_role("button", name="Go there")
    expect(there).to_be_visible(timeout=SLOW)
    model_picture(page)
    assert laid() == before
    there.click()
    expect(page.locator("#section.pinned")).to_be_visible(timeout=SLOW)
    assert laid() != before
    page.get_by_role("button", name="Low", exact=True).click()
    page.keyboard.press("v")
    expect(page.locator("#view-back")).to_be_hidden()
    model_picture(page)
    assert drawn(page)["from"] == pytest.approx(before[0])


RULE = """async () => {
  const { ReachRule } = await import("/static/panels/reach_slider.js"), svg = document.getElementById("reach-rule");
  const rule = new ReachRule(svg, () => {}, () => {}), { outward } = rule.reach, edges = [];
  for (let n = 0; n <= 60; n++) edges.push((n - 20) * 5 * outward);
  rule.setRule({ needed: [200 * outward, 100 * outward], edges, surface: edges.slice(1).map(() => 1) });
  const width = svg.getBoundingClientRect().width;
  const box = (e) => { const r = e.getBoundingClientRect(), s = svg.getBoundingClientRect(); return [r.left - s.left, r.right - s.left]; };
  return { width, numbers: [...svg.querySelectorAll("text.green")].map(box), bars: [...svg.querySelectorAll(":scope > rect")].map(box),
    words: [...svg.querySelectorAll("text:not(.green)")].map((e) => e.textContent) };
}"""


def test_little_that_lies_far_off_does_not_squeeze_the_reach_rule(alive: Page, ring):
    page = alive
    open_ring(page, ring)
    expect(page.locator("#covered")).to_be_visible(timeout=SLOW)
    drawn = page.evaluate(RULE)
    (_, inward), (outward, _) = drawn["numbers"]
    assert inward < outward  # they stand beside each other
    assert all(left >= -1 and right <= drawn["width"] + 1 for left, right in drawn["bars"] + drawn["numbers"])
    assert [words[:2] for words in drawn["words"][:2]] == ["‹ ", "to"]
    assert "0" not in drawn["words"]


def test_a_new_piece_is_measured_by_itself_once_and_goes_back_with_one_click(
    alive: Page, client, services, ring_files, server
):
    page = alive
    roles = {
        client.put("/uploads", params={"name": f.name}, content=f.read_bytes()).json()["token"]: "" for f in ring_files
    }
    address = client.post("/pieces", json={"name": "Fresh", "roles": roles}).json()["address"]
    piece_id = int(address.rpartition("/")[2])
    page.goto(f"{server}{address}?new=yes")
    expect(page.locator("#by-itself")).to_contain_text("measured by itself", timeout=SLOW)
    renewed(page, 1)  # of the measured reach: that of the default is given up
    expect(page.locator("#by-itself")).to_be_visible()  # through the panels that the proof renews
    reach = services.pieces.get(piece_id)[0].recipe.reach
    assert (reach.outward, reach.inward) != (1.5, 1.5)
    assert services.bakes.get(services.bakes.newest(piece_id)[0].id).recipe.reach == reach
    page.get_by_role("button", name="Back to the default").click()
    renewed(page, 2)
    reach = services.pieces.get(piece_id)[0].recipe.reach
    assert (reach.outward, reach.inward) == (1.5, 1.5)
    page.goto(f"{server}{address}?new=yes")
    expect(page.locator("body")).to_have_attribute("data-live", "current", timeout=SLOW)
    assert client.post(f"{address}/measure/new").status_code == 204
    assert services.pieces.get(piece_id)[0].recipe.reach == reach  # who went back is not measured again


def test_a_reach_that_was_set_is_not_measured_over(client, piece):
    assert client.post(f"{piece}/measure/new").status_code in (200, 204)
    client.post(f"{piece}/settings/cage", data={"reach.outward": "4"})
    assert client.post(f"{piece}/measure/new").status_code == 204
