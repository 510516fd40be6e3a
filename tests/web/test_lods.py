"""Levels of detail on the page: a piece of each, how they look from afar, and one in the maps of another."""

import re
from dataclasses import replace

import pytest
from playwright.sync_api import Page, expect

from inkwell_cast.core.formats import write_mesh

from ..shapes import torus
from .browser import SLOW
from .helpers import baked, ended

SMALL = {"sheet.width": "64", "sheet.height": "64", "sheet.samples": "1"}
REACH = {"reach.unit": "scene", "reach.outward": "0.4", "reach.inward": "0.4"}


@pytest.fixture
def level_files(tmp_path):
    lows = [torus(around, around // 2, name=f"ring_LOD{n}_low") for n, around in enumerate((32, 10))]
    high = replace(torus(96, 48, name="ring_high"), uvs=())
    paths = []
    for mesh in [*lows, high]:
        paths.append(tmp_path / f"{mesh.name}.obj")
        write_mesh(paths[-1], mesh)
    return paths


def test_names_that_say_levels_make_a_piece_of_each(alive: Page, server, services, level_files):
    page = alive
    page.goto(f"{server}/new")
    expect(page.locator("#list")).to_have_attribute("data-ready", "yes")
    tick = page.get_by_label("A piece for each level of detail")
    page.locator("#files").set_input_files([str(level_files[0]), str(level_files[2])])
    expect(page.get_by_label("Role of ring_high.obj")).to_have_value("", timeout=SLOW)
    expect(tick).to_be_hidden()
    page.locator("#files").set_input_files([str(level_files[1])])
    expect(page.locator("#level-names")).to_have_text("0, 1", timeout=SLOW)
    expect(tick).to_be_checked()
    page.get_by_role("button", name="Make the piece").click()
    page.wait_for_url(re.compile(r"/pieces/\d+"))
    made = services.pieces.shelf()
    assert sorted(entry[0].name for entry in made) == ["ring LOD0", "ring LOD1"]
    for piece, meshes, _, _ in made:
        level = piece.recipe.pairing.level
        assert {row.file_name for row in meshes} == {f"ring_LOD{level}_low.obj", "ring_high.obj"}


@pytest.mark.deep
def test_levels_stand_beside_each_other_and_one_wears_the_map_of_another(client, services, level_files):
    tokens = {}
    for path in level_files:
        answer = client.put("/uploads", params={"name": path.name}, content=path.read_bytes()).json()
        tokens[answer["token"]] = ""
    given = {"name": "Ring", "roles": tokens, "each_level": True}
    first = client.post("/pieces", json=given).json()["address"]
    pieces = {row.level: row.piece.id for row in services.lods.of(int(first.rpartition("/")[2]))}
    assert list(pieces) == [0, 1]
    for level, piece_id in pieces.items():
        address = f"/pieces/{piece_id}"
        for step, fields in (("maps", SMALL), ("cage", REACH)):
            client.post(f"{address}/settings/{step}", data=fields)
        baked(client, address)
        if level == 0:
            assert "not baked yet" in client.get(f"{address}/panel/review").text
    rows = services.lods.of(pieces[0])
    near = [row.facts.from_afar[256] for row in rows]
    assert 0 < near[0] < near[1]
    assert rows[1].facts.low_triangles < rows[0].facts.low_triangles
    panel = client.get(f"/pieces/{pieces[1]}/panel/review").text
    assert "Judge it with the map of level 0" in panel
    assert f"/pieces/{pieces[0]}?step=review" in panel
    own = rows[1].facts.seen.bake.mean
    client.post(f"/pieces/{pieces[1]}/wear/{pieces[0]}")
    ended(client, f"/pieces/{pieces[1]}")
    worn = services.lods.of(pieces[0])[1]
    assert worn.facts.brought
    assert not worn.wearable
    assert worn.facts.seen.bake.mean > own + 1  # normals of another low
    assert client.post(f"/pieces/{pieces[0]}/wear/{pieces[1]}").status_code == 422
