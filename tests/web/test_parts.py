"""Several parts at once: chosen in the list, on the model and by a line around them; one setting for all; new names."""

import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ..shapes import many_rings
from .browser import SLOW, in_model, ready

COUNT = 4


@pytest.fixture
def rings(server, services, tmp_path):
    """The address of a piece of four rings in two rows, each a pair of its own."""
    tokens = []
    for suffix, around in (("_low", 10), ("_high", 24)):
        write_mesh(tmp_path / f"rings{suffix}.glb", many_rings(COUNT, around, 8, suffix))
        tokens.append(services.uploads.take_from(str(tmp_path / f"rings{suffix}.glb")).token)
    piece = services.pieces.make("rings", dict.fromkeys(tokens, ""), Recipe(sheet=Sheet(width=64, height=64)))
    return f"{server}/pieces/{piece}"


def open_parts(page: Page, address: str) -> None:
    page.goto(f"{address}?step=cage&plain")
    ready(page)
    page.locator("#parts summary").click()


def chosen(page: Page) -> list[str]:
    return page.locator("#parts-list [aria-pressed=true]").all_inner_texts()


def row(page: Page, n: int):
    return page.locator("#parts-list [data-choose]").nth(n)


def seen_at(page: Page, name: str) -> tuple[float, float]:
    """A place of the page at which a part of the low is seen."""
    box = page.locator("#model canvas").bounding_box()
    x, y = in_model(
        page,
        f"""(() => {{ const {{ header, arrays }} = model.low;
          for (let t = 0; t < header.triangles; t++) {{
            if (model.partOf(t) !== "{name}") continue;
            const p = arrays.position.subarray(9 * t, 9 * t + 9), middle = [0, 1, 2].map((k) => (p[k] + p[3 + k] + p[6 + k]) / 3);
            const [x, y] = model.screenOf(middle), r = model.canvas.getBoundingClientRect();
            const at = model.uvAt({{ clientX: r.left + x, clientY: r.top + y }});
            if (at && model.partOf(at.triangle) === "{name}") return [x, y];
          }} }})()""",
    )
    return box["x"] + x, box["y"] + y


def test_parts_are_chosen_as_in_any_list_on_the_model_and_by_a_line_around_them(quiet: Page, rings):
    page = quiet
    open_parts(page, rings)
    row(page, 0).click()
    row(page, 2).click(modifiers=["Shift"])
    assert chosen(page) == ["ring000", "ring001", "ring002"]
    row(page, 1).click(modifiers=["Control"])
    assert chosen(page) == ["ring000", "ring002"]
    page.keyboard.down("Control")
    page.mouse.click(*seen_at(page, "ring003"))
    page.keyboard.up("Control")
    assert chosen(page) == ["ring000", "ring002", "ring003"]
    page.locator("#chosen-only").click()
    assert in_model(page, "[...model.hiddenParts].join()") == "ring001"
    page.locator("#parts-all").click()
    page.locator("#lasso").click()
    page.keyboard.press("Escape")
    expect(page.locator("#lasso")).to_have_attribute("aria-pressed", "false")
    page.locator("#lasso").click()
    box, (x, y) = page.locator("#model canvas").bounding_box(), seen_at(page, "ring003")
    page.mouse.move(x - 12, y - 12)
    page.mouse.down()
    for dx, dy in ((12, -12), (12, 12), (-12, 12)):
        page.mouse.move(x + dx, y + dy, steps=3)
    page.mouse.up()
    assert "ring003" in chosen(page)
    assert len(chosen(page)) < COUNT
    assert box["x"] < x  # and the view was not turned by the drag
    expect(page.locator("#lasso")).to_have_attribute("aria-pressed", "false")
    page.locator("#lasso").click()
    page.mouse.move(box["x"] + 2, box["y"] + 2)
    page.mouse.down()
    for dx, dy in ((1, 0), (1, 1), (0, 1)):
        page.mouse.move(box["x"] + 2 + dx * (box["width"] - 4), box["y"] + 2 + dy * (box["height"] - 4), steps=3)
    page.mouse.up()
    assert len(chosen(page)) == COUNT


def test_one_setting_for_all_that_are_chosen_and_each_its_own_is_said(quiet: Page, rings, services):
    page = quiet
    open_parts(page, rings)
    row(page, 0).click()
    row(page, 1).click(modifiers=["Control"])
    page.locator("#chosen-settings").click()
    expect(page.locator("#panel select[name=scope] option:checked")).to_have_text("2 parts at once")
    page.locator("#panel input[name='level.outward']").fill("3 %")
    page.locator("#panel input[name='level.outward']").press("Tab")
    expect(page.locator("#panel .origin").nth(1)).to_contain_text("set in each")
    levels = services.pieces.wanted(int(rings.rpartition("/")[2]))[0].recipe.levels
    assert {scope: level.outward for scope, level in levels.items()} == {"pair:ring000": 3, "pair:ring001": 3}
    row(page, 2).click(modifiers=["Control"])
    page.locator("#chosen-settings").click()
    field = page.locator("#panel input[name='level.outward']")
    expect(field).to_have_value("")
    expect(field).to_have_attribute("placeholder", "1.5 to 3")
    page.locator("#panel input[name='level.inward']").fill("1")
    page.locator("#panel input[name='level.inward']").press("Tab")
    expect(page.locator("#panel .origin").first).to_contain_text("set in each")
    levels = services.pieces.wanted(int(rings.rpartition("/")[2]))[0].recipe.levels
    assert [level.outward for level in levels.values()] == [3, 3, None]  # what was left alone stays each its own
    assert {level.inward for level in levels.values()} == {1}
    page.locator("#undo").click()
    expect(page.locator("#undo")).to_have_attribute("title", "Undo: Outward of ring000 inherited → 3 and 1 more")


def test_a_double_click_renames_and_escape_leaves_the_name(quiet: Page, rings, services):
    page = quiet
    open_parts(page, rings)
    named = page.locator("#parts-list [data-choose=ring001]")
    named.dblclick()
    page.keyboard.type("nothing")
    page.keyboard.press("Escape")
    expect(named).to_have_text("ring001")
    named.dblclick()
    page.keyboard.type("lid")
    page.keyboard.press("Enter")
    expect(page.locator("#parts-list [data-choose=lid]")).to_have_text("lid", timeout=SLOW)
    expect(named).to_have_count(0)
    expect(page.locator("#steps .here")).to_have_text("Cage")
    page.locator("#piece-name").focus()
    page.keyboard.press("F2")
    page.keyboard.type("Chain of rings")
    page.keyboard.press("Enter")
    expect(page.locator("#piece-name")).to_have_text("Chain of rings")
    expect(page).to_have_title("Chain of rings · Inkwell Cast")
    assert services.pieces.wanted(int(rings.rpartition("/")[2]))[0].name == "Chain of rings"


def test_a_piece_is_renamed_on_the_shelf(quiet: Page, rings, services):
    page = quiet
    page.route("**/lit.png*", lambda route: route.fulfill(status=204))  # its picture is not what this is about
    page.goto(rings.rpartition("/pieces")[0])
    page.get_by_label("Rename rings").first.click()
    field = page.get_by_label("New name of rings").first
    expect(field).to_be_focused()
    page.keyboard.type("Chain")
    page.keyboard.press("Enter")
    expect(page.locator(".card-name[title=Chain]")).to_have_text("Chain")
    expect(field).to_be_hidden()
    assert services.pieces.wanted(int(rings.rpartition("/")[2]))[0].name == "Chain"


def test_what_is_wiped_stands_side_by_side_and_each_half_is_pointed_at(quiet: Page, rings):
    page = quiet
    open_parts(page, rings)
    page.locator("[data-show=wipe]").click()
    page.locator("#beside").click()
    expect(page.locator("#wipe")).to_be_hidden()
    assert in_model(page, "model.columns") == 2
    parts = in_model(
        page,
        """[0, 1].map((half) => { const [x, y] = model.screenOf([7, 7, 0].map((v, k) => v - (k === 0 ? 2 : 0))),
          r = model.canvas.getBoundingClientRect();
          return model.uvAt({ clientX: r.left + x + (half * r.width) / 2, clientY: r.top + y })?.triangle; })""",
    )
    assert parts[0] is not None
    assert parts[0] == parts[1]
    page.keyboard.press("y")
    expect(page.locator("#wipe")).to_be_visible()
    assert in_model(page, "[model.columns, model.camera.zoom].join()") == "1,1"


def test_settings_of_another_piece_are_taken_by_kind_and_given_back_by_undo(client, services, rings, tmp_path):
    own = int(rings.rpartition("/")[2])
    tokens = [services.uploads.take_from(str(tmp_path / f"rings{suffix}.glb")).token for suffix in ("_low", "_high")]
    wide = Recipe(sheet=Sheet(width=256, height=32), reach=Reach(outward=9))
    other = services.pieces.make("Wide & flat", dict.fromkeys(tokens, ""), wide)
    offered = client.get(f"/pieces/{own}/others").text
    assert f'<option value="{other}">Wide &amp; flat</option>' in offered
    assert f'value="{own}"' not in offered
    answer = client.post(f"/pieces/{own}/settings-of", data={"piece": other, "kind": ["sheets"]})
    assert "Taken from Wide &amp; flat." in answer.text
    recipe = services.pieces.wanted(own)[0].recipe
    assert (recipe.sheet.width, recipe.reach.outward) == (256, Reach().outward)
    client.post(f"/pieces/{own}/step-back?step=meshes&by=-1")
    assert services.pieces.wanted(own)[0].recipe.sheet.width == 64
    for refused in (
        {"piece": "999", "kind": "sheets"},
        {"piece": "x"},
        {"piece": other},
        {"piece": other, "kind": "no"},
    ):
        answer = client.post(f"/pieces/{own}/settings-of", data=refused)
        assert answer.status_code == 422
        assert "Settings of another piece" in answer.json()["error"]
