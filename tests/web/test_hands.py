"""What hands do on the page of a piece: numbers typed and dragged, changes stepped through, folders chosen."""

import re

import pytest
from playwright.sync_api import Page, expect

from .browser import SLOW, delayed, open_ring, ready, settled, unfold


def test_numbers_take_sums_and_units_are_dragged_and_stepped(quiet: Page, services, ring):
    page = quiet
    open_ring(page, ring)
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
    page.mouse.move(box["x"] + 170, box["y"] + 8)  # 160 pixels double it
    page.keyboard.down("Shift")
    page.mouse.move(box["x"] + 970, box["y"] + 8)  # and 800 with Shift
    page.keyboard.up("Shift")
    settled(page, page.mouse.up)
    assert services.pieces.get(1)[0].recipe.reach.outward == pytest.approx(12, rel=0.02)
    field.focus()
    page.keyboard.press("ArrowUp")
    settled(page, lambda: page.keyboard.press("Tab"))
    assert services.pieces.get(1)[0].recipe.reach.outward > 12


def test_enter_in_a_field_loads_no_page(quiet: Page, ring):
    page = quiet
    for step in ("meshes", "cage", "basis", "maps", "review", "handoff"):
        page.goto(f"{ring}?step={step}&plain")
        ready(page)
        page.evaluate("window.here = true")
        forms = "#panel form[hx-trigger=change]"
        page.evaluate("(f) => document.querySelectorAll(f).forEach((form) => form.requestSubmit())", forms)
        page.wait_for_timeout(300)
        assert page.evaluate("window.here"), page.url


def test_changes_are_called_by_what_they_changed_and_any_is_gone_to(quiet: Page, services, ring):
    page = quiet
    open_ring(page, ring)
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


def test_a_folder_is_chosen_for_a_handoff_and_no_other_is_shown(quiet: Page, client, ring, tmp_path, monkeypatch):
    home = tmp_path / "home"
    (home / "textures" / "ring").mkdir(parents=True)
    monkeypatch.setenv("HOME", str(home))
    page = quiet
    open_ring(page, ring)
    page.keyboard.press("p")
    expect(page.locator("#table")).to_have_attribute("data-ended", "1", timeout=SLOW)
    page.get_by_role("link", name="Handoff").click()
    page.get_by_role("button", name="Choose", exact=True).click()
    dialog = page.get_by_role("dialog", name="Choose a folder")
    dialog.get_by_role("button", name="textures").click()
    expect(dialog.locator("b")).to_have_text(str(home / "textures"))
    delayed(page, "/folders")  # what is chosen is what was pressed, not what was shown last
    dialog.get_by_role("button", name="ring").click()
    dialog.get_by_role("button", name="Choose this folder").click()
    expect(page.get_by_label("Folder or .zip on this machine")).to_have_value(str(home / "textures" / "ring"))
    assert client.get("/folders", params={"place": "/etc"}).status_code == 422
    assert client.get("/folders", params={"place": str(home / ".." / "..")}).status_code == 422
    assert client.get("/folders").json()["folders"] == ["textures"]


def test_a_long_list_is_filtered_by_its_words(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
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


def held_handle(page: Page) -> tuple[float, float]:
    """Where the outward handle of the reach rule lies, once what the cage holds is measured."""
    expect(page.locator("#covered")).to_contain_text("held", timeout=SLOW)
    box = page.locator(".handle").nth(1).bounding_box()
    return box["x"] + box["width"] / 2, box["y"] + 8


def test_a_finger_drags_the_reach_and_one_that_is_taken_away_leaves_it(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    x, y = held_handle(page)
    screen = page.context.new_cdp_session(page)
    screen.send("Emulation.setTouchEmulationEnabled", {"enabled": True})

    def touch(kind, *places):
        screen.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": [{"x": at, "y": y} for at in places]})

    number = page.locator("#reach-rule text.green").nth(1)
    before = number.text_content()
    touch("touchStart", x)
    for by in (10, 30, 60):
        touch("touchMove", x - by)
    expect(number).not_to_have_text(before)
    touch("touchCancel")  # as when the system takes the pointer
    expect(number).to_have_text(before)
    page.mouse.move(x - 40, y)
    page.mouse.move(x - 90, y)  # with no button pressed
    expect(number).to_have_text(before)
    touch("touchStart", x)
    touch("touchMove", x - 60)
    settled(page, lambda: touch("touchEnd"))
    assert float(page.locator("input[name='reach.outward']").input_value()) < 1.5


def test_what_the_cage_holds_is_followed_on_after_a_request_that_failed(quiet: Page, ring):
    page, refused = quiet, []
    open_ring(page, ring)
    x, y = held_handle(page)

    def refuse_the_first(route):
        refused.append(route)
        route.continue_() if len(refused) > 1 else route.fulfill(status=422, json={"error": "Not now."})

    page.route("**/coverage?*outward*", refuse_the_first)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 5, y)
    while not refused:
        page.wait_for_timeout(20)
    page.mouse.move(x - 90, y)
    expect(page.locator("#covered")).to_contain_text("vertices outside", timeout=SLOW)
    settled(page, page.mouse.up)


def test_the_map_follows_a_stroke_of_the_brush_and_a_pocket(alive: Page, ring):
    page = alive
    open_ring(page, ring)
    table = page.locator("#table")
    expect(table).to_have_attribute("data-renewed", "1", timeout=SLOW)
    unfold(page, "cage-by-hand")
    page.get_by_role("button", name="Brush: draw on the model").click()
    box = page.locator("#model").bounding_box()
    at = box["x"] + box["width"] * 0.3, box["y"] + box["height"] * 0.55
    page.mouse.click(*at)
    expect(table).to_have_attribute("data-renewed", "2", timeout=SLOW)
    page.get_by_role("button", name="Brush: draw on the model").click()
    page.locator("#add-pocket").click()
    page.keyboard.press("Escape")
    expect(page.locator("#add-pocket")).to_have_attribute("aria-pressed", "false")
    page.locator("#add-pocket").click()
    page.mouse.click(*at)
    expect(table).to_have_attribute("data-renewed", "3", timeout=SLOW)
    expect(page.locator("#live-words")).to_have_text(re.compile(r"^\d+\.\d\d° · \d+ flaws?$"))


def held_back(page: Page, address: str):
    """Answers from an address wait from now on until what is returned is called."""
    waiting = []
    page.route(address, lambda route: waiting.append(route))

    def let_go():
        for route in waiting:
            route.continue_()
        page.unroute(address)

    return let_go


def test_what_is_typed_in_an_unfolded_part_outlives_a_panel_that_comes_late(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    page.get_by_role("link", name="Maps").click()
    unfold(page, "maps-shape")
    unfold(page, "maps-masks")
    with page.expect_response(lambda r: "/settings/maps" in r.url):
        page.get_by_label("Height", exact=True).check()
    page.locator("#map-height > summary").click()
    let_go = held_back(page, "**/settings/maps*")
    page.get_by_label("Curvature", exact=True).check()
    page.locator("input[name='height.range']").fill("0.25")
    page.evaluate("document.querySelector('#panel').firstElementChild.dataset.old = 'yes'")
    let_go()
    expect(page.locator("#panel > [data-old]")).to_have_count(0)
    expect(page.locator("input[name='height.range']")).to_be_focused()
    with page.expect_response(lambda r: "/settings/maps" in r.url):
        page.keyboard.press("Tab")
    expect(page.locator("input[name='height.range']")).to_have_value("0.25")


def test_a_click_that_begins_before_a_late_panel_is_heard(quiet: Page, services, ring):
    page = quiet
    open_ring(page, ring)
    page.get_by_role("link", name="Maps").click()
    unfold(page, "maps-shape")
    unfold(page, "maps-masks")
    let_go = held_back(page, "**/settings/maps*")
    page.get_by_label("Curvature", exact=True).check()
    page.get_by_label("Height", exact=True).hover()
    page.mouse.down()
    with page.expect_response(lambda r: "/settings/maps" in r.url):
        let_go()
    page.wait_for_timeout(300)  # the panel would have come by now
    with page.expect_response(lambda r: "/settings/maps" in r.url):
        page.mouse.up()
    expect(page.get_by_label("Curvature", exact=True)).to_be_checked()
    assert {"height", "curvature"} <= set(services.pieces.get(1)[0].recipe.output.maps)


def test_a_change_whose_field_is_gone_when_it_is_answered_is_heard_all_the_same(quiet: Page, ring):
    page = quiet
    open_ring(page, ring)
    page.locator("#model canvas").focus()
    page.keyboard.press("p")
    expect(page.locator("#likeness")).to_be_visible()
    page.get_by_role("link", name="Cage").click()
    field = page.locator("input[name='reach.outward']")
    expect(field).to_be_visible()
    expect(page.locator("#sheet-fact")).not_to_contain_text("changed since")
    let_go = held_back(page, "**/settings/cage*")
    field.fill("7.5")
    field.press("Enter")
    page.evaluate("document.querySelector('#panel').firstElementChild.dataset.old = 'yes'")
    page.get_by_role("link", name="Cage").click()  # its panel comes first
    expect(page.locator("#panel > [data-old]")).to_have_count(0)
    let_go()
    expect(page.locator("#sheet-fact")).to_contain_text("changed since")
    expect(page.locator("input[name='reach.outward']")).to_have_value("7.5")
    page.evaluate(  # what was found before the change and comes only now
        """async () => {
          const facts = await (await fetch(`${location.pathname}/bakes/1/facts`)).json();
          document.body.dispatchEvent(
            new CustomEvent("show-bake", { detail: { facts: { ...facts, stale: "", read: 0, seconds: "late" } } }));
        }"""
    )
    expect(page.locator("#sheet-fact")).to_have_text(re.compile("late.*changed since"))


def test_escape_ends_a_drag_and_nothing_is_changed(quiet: Page, services, ring):
    """A stroke of the brush, a pocket, and the reach."""
    page = quiet
    open_ring(page, ring)
    expect(page.locator("#covered")).to_be_visible()

    def dragged(x, y, cancelled):
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 24, y + 6, steps=4)
        if cancelled:
            page.keyboard.press("Escape")
        page.mouse.up()

    unfold(page, "cage-by-hand")
    page.get_by_role("button", name="Brush: draw on the model").click()
    box = page.locator("#model").bounding_box()
    place = box["x"] + box["width"] * 0.3, box["y"] + box["height"] * 0.55
    handle = page.locator(".handle").nth(1).bounding_box()
    dragged(*place, cancelled=True)
    dragged(handle["x"] + handle["width"] / 2, handle["y"] + 8, cancelled=True)
    page.wait_for_timeout(300)
    before = services.pieces.get(1)[0]
    assert (before.recipe.nudges, before.step) == ([], 0)
    with page.expect_response(lambda r: "/nudges" in r.url):
        dragged(*place, cancelled=False)
    assert len(services.pieces.get(1)[0].recipe.nudges) == 1
