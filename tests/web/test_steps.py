"""The steps Meshes, Cage and Maps without a browser: views, levels, pairs, findings, reload, coverage, sheets."""

import math
import os
import pathlib
import tempfile
import time
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest

from inkwell_cast.core.bake.manifest import sha256_of
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.mesh import values_at_corners
from inkwell_cast.core.settings.item_keys import item_keys
from inkwell_cast.engine.ticket import JobFailed, Ticket
from inkwell_cast.web.services.pieces import paired_of

from ..shapes import grid_mesh, plane, torus
from .helpers import baked, listed, mesh_id_of, message, piece_id_of


def test_the_views_are_made_once_and_follow_the_settings(client, piece, services):
    header, _ = message(client.get(f"{piece}/views/low"))
    assert (header["keys"], header["pairs"]) == (["ring_low.obj/ring_low"], ["ring"])
    before = message(client.get(f"{piece}/views/cage"))[1]
    client.post(f"{piece}/settings/cage", params={"scope": "pair:ring"}, data={"level.outward": "4"})
    after = message(client.get(f"{piece}/views/cage"))[1]
    assert len(before["lines"]) == len(after["lines"]) > 100
    moved = (after["rays"] - before["rays"]).reshape(-1, 2, 3)
    _, low = message(client.get(f"{piece}/views/low"))
    diagonal = np.linalg.norm(low["position"].max(axis=0) - low["position"].min(axis=0))
    # starts go out by 4 - 1.5 per cent; a direction between two that lean apart is a little shorter than they are
    np.testing.assert_allclose(np.linalg.norm(moved[:, 0], axis=1), 0.025 * diagonal, rtol=0.08)
    np.testing.assert_allclose(moved[:, 1], 0, atol=1e-5)
    high = mesh_id_of(services, piece, "ring_high.ply")
    assert message(client.get(f"{piece}/views/sculpt", params={"mesh": high}))[0]["triangles"] == 40_000
    assert client.get(f"{piece}/views/nothing").status_code == 404


def test_levels_say_where_a_value_is_from_and_are_inherited_again(client, piece):
    scope = {"scope": "object:ring_low.obj/ring_low"}
    panel = client.post(f"{piece}/settings/cage", params=scope, data={"level.outward": "5"}).text
    assert "set here" in panel
    assert "from the piece" in panel
    assert "-1 cannot be used" in client.post(f"{piece}/settings/cage", params=scope, data={"level.inward": "-1"}).text
    again = client.post(f"{piece}/inherit/cage", params=scope | {"field": "outward"}).text
    assert "set here" not in again


def test_coverage_is_told_for_a_tried_reach_and_measured(client, piece, services):
    tried = client.get(f"{piece}/coverage", params={"outward": 0, "inward": 0}).text
    assert "vertices outside, worst" in tried
    assert "ring_high" in tried
    points = message(client.get(f"{piece}/coverage/points", params={"outward": 0, "inward": 0}))[1]["out_lines"]
    assert len(points) > 1000
    assert client.get(f"{piece}/coverage", params={"outward": -1}).status_code == 422
    panel = client.post(f"{piece}/measure", params={"scope": "pair:ring"})
    assert "look best" in panel.text
    assert "cage-changed" in panel.headers["HX-Trigger"]
    level = services.pieces.get(piece_id_of(piece))[0].recipe.levels["pair:ring"]
    assert level.outward < 1.5
    held = client.get(f"{piece}/coverage", params={"scope": "pair:ring"}).text
    assert "<b>100 %</b>" in held
    assert "vertices" not in held


def test_a_fit_is_tried_before_it_is_kept(client, piece, services):
    panel = client.post(f"{piece}/fit").text
    assert "as seen with a cage fitted from it" in panel
    shape = services.pieces.get(piece_id_of(piece))[0].recipe.reach.shape
    assert (shape == "fitted") != ("The even one is set" in panel)


def test_a_slice_is_cut_at_a_place_of_the_low(client, piece):
    _, low = message(client.get(f"{piece}/views/low"))
    x, y, z = low["position"][:3].mean(axis=0).tolist()
    header, lines = message(
        client.get(f"{piece}/section", params={"triangle": 0, "x": x, "y": y, "z": z, "turned": 30})
    )
    assert header["struck"] == "ring_high"
    assert min(len(lines[name]) for name in ("low", "cage", "sculpt")) > 0
    assert len(header["rays"]) > 3
    assert client.get(f"{piece}/section", params={"triangle": 9999, "x": 0, "y": 0, "z": 0}).status_code == 204
    assert client.get(f"{piece}/section", params={"triangle": 0, "x": 0, "y": 0, "z": 0, "zoom": 0}).status_code == 422


def test_a_fitted_cage_is_told_with_its_gain_and_exported(client, piece, tmp_path):
    client.post(f"{piece}/settings/cage", data={"reach.shape": "fitted", "reach.clearance": "0.2"})
    told = client.get(f"{piece}/coverage").text
    assert "<b>100 %</b>" in told
    assert "an even cage that holds as much needs" in told
    rays = message(client.get(f"{piece}/views/cage"))[1]["rays"].reshape(-1, 2, 3)
    assert np.ptp(np.linalg.norm(rays[:, 0] - rays[:, 1], axis=1)) > 0
    (tmp_path / "cage.glb").write_bytes(client.get(f"{piece}/export/cage.glb").content)
    _, low = message(client.get(f"{piece}/views/low"))
    assert len(read_mesh(tmp_path / "cage.glb").triangles) == len(low["position"]) // 3
    header, arrays = message(client.get(f"{piece}/coverage/folds"))
    assert (header["place"], len(arrays["corners"])) == (None, 0)


def test_nudges_are_brushed_listed_undone_and_refused(client, piece, services):
    def nudges():
        return services.pieces.get(piece_id_of(piece))[0].recipe.nudges

    def stroke(**other):
        given = {"kind": "out", "points": [[2.7, 0, 0], [2.6, 0.5, 0]], "size": "8", "move": "1", "strength": "0.5"}
        return client.post(f"{piece}/nudges", json=given | {"falloff": "0.8", "mirror": "x"} | other)

    before = len(message(client.get(f"{piece}/views/cage"))[1]["lines"])
    told = stroke()
    assert "Nudges <small>1</small>" in told.text
    assert "cage-changed" in told.headers["HX-Trigger"]
    diagonal = math.hypot(5.4, 5.4, 1.4)
    assert nudges()[0].radius == pytest.approx(0.08 * diagonal, rel=0.01)
    assert nudges()[0].amount == pytest.approx(0.01 * diagonal, rel=0.01)
    assert len(message(client.get(f"{piece}/views/cage"))[1]["lines"]) > before
    stroke(kind="smooth")
    assert nudges()[1].amount == 0.5
    assert "no size" in stroke(size="wide").json()["error"]
    assert "strength of 3" in stroke(kind="erase", strength="3").json()["error"]
    assert "radius" in stroke(size="-1").json()["error"]
    assert "points" in stroke(points=[]).json()["error"]
    client.post(f"{piece}/nudges/out", params={"key": item_keys(nudges())[0]})
    assert [s.kind for s in nudges()] == ["smooth"]
    assert "no longer there" in client.post(f"{piece}/nudges/out", params={"key": "5"}).json()["error"]
    client.post(f"{piece}/step-back", params={"step": "cage"})
    assert len(nudges()) == 2
    client.post(f"{piece}/nudges/out")
    assert nudges() == []


def test_changes_are_undone_and_done_again(client, piece, services):
    def outward():
        return services.pieces.get(piece_id_of(piece))[0].recipe.reach.outward

    client.post(f"{piece}/settings/cage", data={"reach.outward": "7"})
    undone = client.post(f"{piece}/step-back", params={"step": "cage"})
    assert outward() == 1.5
    assert "Redo: Outward 1.5 → 7" in undone.text
    assert "cage-changed" in undone.headers["HX-Trigger"]
    client.post(f"{piece}/step-back", params={"step": "cage", "by": 1})
    assert outward() == 7
    client.post(f"{piece}/step-back", params={"step": "cage", "by": 1})
    assert outward() == 7


def test_parts_are_moved_and_pairs_renamed_and_split(client, piece, services):
    def pairs():
        found = services.pieces.get(piece_id_of(piece))
        return {p.name: len(p.members) for p in paired_of(found[0], found[1]).pairs}

    client.post(f"{piece}/pairs/rename", params={"name": "ring"}, data={"to": "rope"})
    assert pairs() == {"rope": 2}
    client.post(f"{piece}/parts", data={"key": "ring_high.ply/ring_high", "pair": "elsewhere"})
    assert pairs() == {}
    client.post(f"{piece}/parts", data={"key": "ring_high.ply/ring_high", "pair": "rope"})
    assert pairs() == {"rope": 2}
    client.post(f"{piece}/parts", data={"key": "ring_low.obj/ring_low", "role": "self"})
    client.post(f"{piece}/pairs/split", params={"name": "rope"}, data={"key": ["ring_high.ply/ring_high"]})
    assert pairs() == {"rope": 1}
    gone = client.post(f"{piece}/pairs/split", params={"name": "lost"}, data={})
    assert "no pair of that name" in gone.json()["error"]


def test_findings_are_listed_marked_and_fixed(client, services):
    low, high = grid_mesh(20, 20, lambda u, v: (u, v, 0 * u), "tile_low"), plane(30, name="tile_high")
    uvs = low.uvs[0].at_corners() + np.float32(2)
    roles = {}
    with tempfile.TemporaryDirectory() as folder:
        for mesh in (replace(low, uvs=(values_at_corners(uvs),)), high):
            path = pathlib.Path(folder) / f"{mesh.name}.glb"
            write_mesh(path, mesh)
            answer = client.put("/uploads", params={"name": path.name}, content=path.read_bytes()).json()
            roles[answer["token"]] = ""
    piece = client.post("/pieces", json={"name": "tile", "roles": roles}).json()["address"]
    number = 0
    while "Move islands" not in client.get(f"{piece}/checks").text.split("<li")[number + 1]:
        number += 1
    header, arrays = message(client.get(f"{piece}/checks/{number}/marks"))
    assert header["low"]
    assert arrays["corners"].shape == (800, 3, 3)
    assert arrays["uvs"].min() > 1.9
    panel = client.post(f"{piece}/checks/{number}/fix").text
    assert "Move islands into the tile: tile_low" in panel
    assert "UVs outside the tile" not in client.get(f"{piece}/checks").text
    assert "take back" not in client.post(f"{piece}/files/unfix", params={"name": "tile_low.glb", "number": 0}).text
    assert client.get(f"{piece}/checks/99/marks").status_code == 404


def test_a_file_is_read_again_from_where_it_lies(client, services, ring_files, tmp_path):
    places = [tmp_path / path.name for path in ring_files]
    roles = {}
    for path, place in zip(ring_files, places, strict=True):
        place.write_bytes(path.read_bytes())
        roles[client.put("/uploads/from", json={"path": str(place)}).json()["token"]] = ""
    piece = client.post("/pieces", json={"name": "ring", "roles": roles}).json()["address"]
    client.post(f"{piece}/settings/cage", params={"scope": "pair:ring"}, data={"level.outward": "4"})
    low = mesh_id_of(services, piece, "ring_low.obj")
    assert "Nothing that counts" in client.post(f"{piece}/meshes/{low}/reload").text
    write_mesh(places[0], torus(30, 10))
    assert "400 triangles became 600" in client.post(f"{piece}/meshes/{low}/reload").text
    # it is watched from the start, since it was read from a place

    def looks():
        return [client.get(f"{piece}/watch") for _ in range(3)]

    assert [look.status_code for look in looks()] == [204, 204, 204]
    write_mesh(places[0], torus(40, 10))
    os.utime(places[0], (time.time() + 3600, time.time() + 3600))  # as by the clock of a file server
    first, second, third = looks()
    assert (first.status_code, third.status_code) == (204, 204)
    assert "600 triangles became 800" in second.text
    os.utime(places[0])  # written again with what it held
    assert [look.status_code for look in looks()] == [204, 204, 204]
    before = places[0].stat().st_mtime
    write_mesh(places[0], torus(44, 10))
    os.utime(places[0], (before, before))  # another size alone
    assert "800 triangles became 880" in looks()[1].text
    assert services.pieces.get(piece_id_of(piece))[0].recipe.levels["pair:ring"].outward == 4
    assert "no such file" in client.put("/uploads/from", json={"path": "/nowhere/x.obj"}).json()["error"]
    assert "no whole path" in client.post(f"{piece}/meshes/{low}/place", data={"place": "x.obj"}).json()["error"]
    assert "There is no file" in client.post(f"{piece}/meshes/{low}/place", data={"place": "/x.obj"}).json()["error"]


def test_a_file_that_is_swapped_while_it_is_read_is_read_again(services, tmp_path, monkeypatch):
    """The hash that is kept is that of what was read."""
    path, submit, swaps = tmp_path / "ring_low.obj", services.engine.submit, [torus(30, 10), torus(40, 10)]
    write_mesh(path, torus(20, 10))

    def swap(job, **given):
        ticket = submit(job, **given)
        ticket.future.result()
        if swaps:
            write_mesh(path, swaps.pop(0))
        return ticket

    monkeypatch.setattr(services.uploads, "engine", SimpleNamespace(submit=swap))
    upload = services.uploads.take_from(str(path))
    assert (upload.facts.triangles, upload.sha256) == (800, sha256_of(path))
    swaps += [torus(20 + n, 10) for n in range(9)]
    with pytest.raises(InputProblem, match="changes while it is read"):
        services.uploads.take_from(str(path))


def test_a_new_file_takes_the_place_of_an_old_one(client, piece, services, tmp_path):
    write_mesh(tmp_path / "other.ply", torus(100, 50))
    token = client.put("/uploads", params={"name": "other.ply"}, content=(tmp_path / "other.ply").read_bytes()).json()[
        "token"
    ]
    high = mesh_id_of(services, piece, "ring_high.ply")
    said = client.post(f"{piece}/meshes/{high}/replace", json={"token": token}).json()["said"]
    assert "40,000 triangles became 10,000." in said
    assert baked(client, piece)["state"] == "done"


def test_what_belongs_to_a_mesh_comes_with_it(client, tmp_path):
    mesh = replace(
        torus(8, 6, name="ring_low"), material_names=("brass",), material_colors=np.array([[1, 0, 0]], np.float32)
    )
    write_mesh(tmp_path / "ring_low.obj", mesh)
    write_mesh(tmp_path / "high.obj", torus(40, 20, name="ring_high"))
    for name in ("ring_low.mtl", "ring_low.obj"):
        sent = client.put("/uploads", params={"name": name, "batch": "b1"}, content=(tmp_path / name).read_bytes())
        assert sent.status_code == 200
    high = client.put("/uploads", params={"name": "ring_high.obj"}, content=(tmp_path / "high.obj").read_bytes())
    roles = {sent.json()["token"]: "", high.json()["token"]: ""}
    piece = client.post("/pieces", json={"name": "r", "roles": roles}).json()["address"]
    assert message(client.get(f"{piece}/views/low"))[1]["color"][0].tolist() == [255, 0, 0]


@pytest.mark.parametrize("what", ["low", "sculpt", "cage"])
def test_meshes_are_exported(client, piece, what, tmp_path):
    for suffix in (".glb", ".obj", ".ply"):
        answer = client.get(f"{piece}/export/{what}{suffix}")
        assert f"_{what}{suffix}" in answer.headers["content-disposition"]
        (tmp_path / f"x{suffix}").write_bytes(answer.content)
        assert len(read_mesh(tmp_path / f"x{suffix}").triangles) == (40_000 if what == "sculpt" else 400)
    assert client.get(f"{piece}/export/{what}.fbx").status_code == 404


def test_several_sheets_have_pictures_and_sizes_of_their_own(client, piece):
    client.post(
        f"{piece}/settings/maps", data={"sheet.split": "tile", "size.1001.width": "32", "size.1001.height": "16"}
    )
    assert 'value="32"' in client.get(f"{piece}/sheets").text
    facts = baked(client, piece)["facts"]
    assert facts["sheets"] == [{"name": "1001", "width": 32, "height": 16}]
    data = client.get(f"{piece}/bakes/{facts['id']}/normal.png", params={"sheet": "1001", "save": 1})
    assert "_1001_normal.png" in data.headers["content-disposition"]
    found = client.get(f"{piece}/bakes/{facts['id']}/texel", params={"x": 20, "y": 10, "sheet": "1001"}).json()
    assert found["probe"]["hit_object"] == "ring_high"


def test_checks_that_were_stopped_say_so_and_begin_again_only_when_asked(client, piece, services, monkeypatch):
    def stopped(piece_id, page=""):
        raise JobFailed("cancelled", "The checks were stopped.")

    monkeypatch.setattr(services.measures, "check", stopped)
    said = client.get(f"{piece}/checks").text
    assert "Stopped before they ended." in said
    assert 'hx-trigger="load' not in said
    monkeypatch.undo()
    assert "Stopped" not in client.get(f"{piece}/checks").text


def test_the_outward_reach_is_greyed_where_a_cage_mesh_takes_its_place(client, ring_files, services, tmp_path):
    """And comes back where the cage is taken out."""
    low = read_mesh(ring_files[0])
    write_mesh(tmp_path / "cage_ring.obj", replace(low, positions=low.positions * np.float32(1.1), normals=None))
    paths = [*ring_files, tmp_path / "cage_ring.obj"]
    tokens = [client.put("/uploads/from", json={"path": str(path)}).json()["token"] for path in paths]
    piece = client.post("/pieces", json={"name": "caged", "roles": dict.fromkeys(tokens, "")}).json()["address"]
    panel = client.get(f"{piece}/panel/cage").text
    assert 'name="reach.outward"' not in panel
    assert 'name="reach.inward"' in panel
    assert "whatever the outward reach is" in panel
    assert "data-cage=yes" in panel
    client.post(f"{piece}/meshes/{mesh_id_of(services, piece, 'cage_ring.obj')}/out")
    panel = client.get(f"{piece}/panel/cage").text
    assert 'name="reach.outward"' in panel
    assert "data-cage" not in panel


def test_checks_that_a_page_waited_for_end_when_it_is_left(client, piece, services, monkeypatch):
    """Those of another page go on."""
    jobs = {page: Ticket(None, None, None, None) for page in ("here", "there")}
    monkeypatch.setattr(services.measures, "_checks", {})
    stopped = []
    monkeypatch.setattr(Ticket, "stop", lambda ticket, patient=False: stopped.append((ticket, patient)))
    services.measures._asking.update({ticket.number: (page, ticket) for page, ticket in jobs.items()})
    assert client.post(f"{piece}/left", params={"tab": "here"}).status_code == 204
    assert stopped == [(jobs["here"], True)]
    services.measures._asking.clear()
    assert "checks" in client.get(f"{piece}/checks", headers={"X-Tab": "here"}).text
    assert services.measures._asking == {}


def test_lengths_are_given_in_any_unit_wherever_one_stands(client, piece, services):
    """A scene unit is a centimetre; the low's diagonal is that of its file."""

    def recipe():
        return services.pieces.get(piece_id_of(piece))[0].recipe

    diagonal = services.pieces.wanted(piece_id_of(piece))[1][0].facts.diagonal
    client.post(f"{piece}/settings/maps", data={"occlusion.distance": "5 mm"})
    assert recipe().occlusion.distance == pytest.approx(100 * 0.5 / diagonal, rel=1e-4)
    client.post(f"{piece}/settings/maps", data={"occlusion.unit": "scene", "occlusion.distance": "1/4 in"})
    assert recipe().occlusion.distance == pytest.approx(0.635, rel=1e-4)
    client.post(f"{piece}/pockets", json={"x": 0, "y": 0, "z": 0})
    client.post(listed(client, piece, "pockets"), data={"radius": "2 units", "outward": "1 + 1"})
    (pocket,) = recipe().pockets
    assert (pocket.radius, pocket.outward) == (pytest.approx(100 * 2 / diagonal, rel=1e-4), 2)
    answer = client.post(listed(client, piece, "pockets"), data={"radius": "wide"})
    assert "The last good value stays in force" in answer.text
    place = {"kind": "heal", "x": 1, "y": 0, "z": 0}
    client.post(f"{piece}/mends/place", data=place | {"radius": "3 mm"})
    assert recipe().mends[0].heals[0].radius == pytest.approx(0.3)
    assert client.post(f"{piece}/mends/place", data=place | {"radius": "some"}).status_code == 422
