"""Receivers, names, packing, handoffs and piece files over the server."""

import io
import json
import re
import time
import zipfile
from concurrent.futures import Future, ThreadPoolExecutor

import cv2
import numpy as np
import pytest

from inkwell_cast.cli import main
from inkwell_cast.core.settings.receivers import READY, Receiver, read_receiver
from inkwell_cast.engine.ticket import JobFailed
from inkwell_cast.web.streamed_zip import BLOCK, zipped

from .helpers import baked, listed, piece_id_of


def recipe_of(services, piece):
    return services.pieces.get(piece_id_of(piece))[0].recipe


def packing_piece(client, piece):
    """Set the piece for packed occlusion and bake it; the number of the bake."""
    client.post(f"{piece}/settings/maps", data={"output.maps": ["", "normal", "occlusion"], "occlusion.rays": "4"})
    client.post(f"{piece}/packs")
    client.post(listed(client, piece, "packs") + "/red", data={"take": "occlusion.red"})
    return baked(client, piece)["facts"]["id"]


def test_a_receiver_is_laid_over_a_piece_kept_exported_and_taken_in_again(client, piece, services):
    panel = client.post(f"{piece}/receiver", data={"receiver": "Green down"})
    assert "so bake again" in panel.text
    recipe = recipe_of(services, piece)
    assert (recipe.basis.green, recipe.output.format, recipe.sheet.width) == ("down", "tga", 64)
    client.post(f"{piece}/settings/handoff", data={"handoff.pattern": "{map}"})
    kept = client.post(f"{piece}/receiver/keep", data={"name": "My lamps", "does": "Lamps", "sizes": "on"})
    assert "My lamps" in kept.text
    given = client.get("/receivers/My lamps.json")
    made = read_receiver(given.content, "a.json")
    assert (made.sheet.width, made.handoff.pattern, made.fits(recipe_of(services, piece))) == (64, "{map}", True)
    assert 'filename="My_lamps.json"' in given.headers["content-disposition"]
    assert "Your own" in client.get(f"{piece}/panel/handoff").text
    client.post(f"{piece}/receiver/out", data={"receiver": "My lamps"})
    assert "Your own" not in client.get(f"{piece}/panel/handoff").text
    assert client.put("/receivers", params={"name": "a.json"}, content=given.content).json() == {"name": "My lamps"}
    assert "Your own" in client.get(f"{piece}/panel/handoff").text
    newer = json.dumps({**json.loads(given.content), "version": 2})
    refused = client.put("/receivers", params={"name": "b.json"}, content=newer)
    assert (refused.status_code, "b.json: It is a receiver of version 2" in refused.json()["error"]) == (422, True)
    ready = Receiver(name=READY[0].name).portable()
    assert "ready receiver is called this" in client.put("/receivers", params={"name": "c.json"}, content=ready).text
    assert client.get("/receivers/schema.json").json()["properties"]["version"]["const"] == 1


def test_names_are_shown_as_they_will_be_and_clashes_said(client, piece, services):
    assert "Ring__b_of__b__rope_normal.png" in client.get(f"{piece}/panel/handoff").text.replace("&lt;", "<")
    assert "names every map alike" in client.post(f"{piece}/settings/handoff", data={"handoff.pattern": "{piece}"}).text
    assert "There is no {nap}" in client.post(f"{piece}/settings/handoff", data={"handoff.pattern": "{nap}{map}"}).text
    client.post(f"{piece}/settings/handoff", data={"handoff.pattern": "{map}_{size}_{depth}"})
    assert "normal_64x48_8.png" in client.get(f"{piece}/panel/handoff").text
    clash = client.post(f"{piece}/words", data={"key": "normal", "word": "NORMAL_object"}).text
    assert re.search("Both .* would be called this", clash)
    client.post(f"{piece}/words", data={"key": "normal", "word": "n"})
    assert "n_64x48_8.png" in client.get(f"{piece}/panel/handoff").text
    client.post(f"{piece}/words", data={"key": "normal", "word": ""})
    assert recipe_of(services, piece).handoff.words == {}


def test_channels_are_packed_and_shown(client, piece, services):
    bake = packing_piece(client, piece)
    client.post(
        listed(client, piece, "packs") + "/green", data={"take": "", "inverts": "1", "invert": "on", "value": "0.25"}
    )
    client.post(listed(client, piece, "packs") + "/blue", data={"take": "normal.green"})
    client.post(listed(client, piece, "packs") + "/alpha", data={"take": ""})
    client.post(listed(client, piece, "packs"), data={"name": "masks", "form": "tiff-16", "space": "sRGB"})
    (pack,) = recipe_of(services, piece).handoff.packs
    assert (pack.name, pack.format, pack.depth, pack.space) == ("masks", "tiff", 16, "sRGB")
    assert (pack.red.map, pack.green.invert, pack.green.value, pack.blue.channel) == ("occlusion", True, 0.25, "green")
    assert list(pack.wells) == ["red", "green", "blue", "alpha"]
    shown = client.get(listed(client, piece, "packs") + ".png", params={"bake": bake, "channel": "green"})
    picture = cv2.imdecode(np.frombuffer(shown.content, np.uint8), cv2.IMREAD_COLOR)
    assert picture.shape == (96, 128, 3)
    assert set(np.unique(picture)) == {191}
    client.post(listed(client, piece, "packs") + "/alpha", data={"take": "none"})
    assert recipe_of(services, piece).handoff.packs[0].alpha is None
    refused = client.post(listed(client, piece, "packs") + "/red", data={"value": "2"})
    assert (refused.status_code, "value" in refused.json()["error"]) == (422, True)
    assert client.post(listed(client, piece, "packs") + "/grey", data={}).status_code == 404
    client.post(listed(client, piece, "packs") + "/red", data={"take": "height.red"})
    assert "This bake has no height" in client.get(f"{piece}/panel/handoff").text
    assert client.get(listed(client, piece, "packs") + ".png", params={"bake": bake}).status_code == 204
    own = listed(client, piece, "packs")
    client.post(f"{own}/out")
    assert recipe_of(services, piece).handoff.packs == []
    assert client.post(f"{own}/out").status_code == 422


def test_a_handoff_appears_whole_asks_before_it_replaces_and_is_remembered(client, piece, services, tmp_path):
    bake, place = packing_piece(client, piece), tmp_path / "textures" / "ring"
    done = client.post(f"{piece}/handoff", data={"bake": bake, "place": str(place)})
    manifest = json.loads((place / "manifest.json").read_bytes())
    assert f"{len(manifest['files']) + 1} files are in {place}" in done.text
    assert {own["file"] for own in manifest["files"]} | {"manifest.json"} == {file.name for file in place.iterdir()}
    asked = client.post(f"{piece}/handoff", data={"bake": bake, "place": str(place)})
    assert "already" in asked.text
    assert "Keep both" in asked.text
    client.post(f"{piece}/handoff", data={"bake": bake, "place": str(place), "existing": "number"})
    client.post(f"{piece}/handoff", data={"bake": bake, "place": str(place), "existing": "replace"})
    assert sorted(file.name for file in place.parent.iterdir()) == ["ring", "ring_2"]
    assert len(services.handoffs.past(piece_id_of(piece))) == 2
    mine = tmp_path / "mine"
    mine.mkdir()
    (mine / "letter.txt").write_text("keep me")
    refused = client.post(f"{piece}/handoff", data={"bake": bake, "place": str(mine), "existing": "replace"})
    assert (refused.status_code, "no handoff" in refused.json()["error"]) == (422, True)
    assert (mine / "letter.txt").read_text() == "keep me"
    for bad in ("", "somewhere/else"):
        assert "whole path" in client.post(f"{piece}/handoff", data={"bake": bake, "place": bad}).json()["error"]
    (tmp_path / "file").write_text("")
    below = client.post(f"{piece}/handoff", data={"bake": bake, "place": str(tmp_path / "file" / "x")})
    assert (below.status_code, "cannot be written" in below.json()["error"]) == (422, True)


def test_an_archive_is_made_and_fetched(client, piece):
    bake = packing_piece(client, piece)
    address = client.post(f"{piece}/handoff/archive", params={"bake": bake}).json()["address"]
    with zipfile.ZipFile(io.BytesIO(client.get(address).content)) as archive:
        names = archive.namelist()
        assert {name.partition("/")[0] for name in names} == {"Ring__b_of__b__rope"}
        assert any(name.endswith("report.html") for name in names)
    assert client.get(f"{piece}/handoff/none.zip").status_code == 404
    assert client.post(f"{piece}/handoff/archive", params={"bake": 999}).status_code == 422


@pytest.mark.deep
def test_a_bake_of_other_meshes_is_not_handed_off(client, piece, services, ring_files, tmp_path):
    bake = packing_piece(client, piece)
    data = ring_files[0].read_bytes().replace(b"v 1", b"v 1.01", 1) + b"\n# changed\n"
    token = client.put("/uploads", params={"name": ring_files[0].name}, content=data).json()["token"]
    client.post(f"{piece}/meshes", json={"token": token, "role": ""})
    assert "does not fit them any more" in re.sub(r"\s+", " ", client.get(f"{piece}/panel/handoff").text)
    refused = client.post(f"{piece}/handoff", data={"bake": bake, "place": str(tmp_path / "x")})
    assert (refused.status_code, "meshes changed" in refused.json()["error"]) == (422, True)


@pytest.mark.deep
def test_a_bake_in_a_piece_file_is_handed_off_by_the_command_line(client, piece, services, tmp_path, capsys):
    packing_piece(client, piece)
    client.post(f"{piece}/bakes/{services.pieces.get(piece_id_of(piece))[2][0].id}/name", data={"name": "first"})
    (tmp_path / "ring.icast").write_bytes(client.get(f"{piece}/piece.icast").content)
    for how in ([], ["first"]):
        given = [
            "handoff",
            str(tmp_path / "ring.icast"),
            "--existing",
            "replace",
            "--out",
            str(tmp_path / "out"),
            "--baked",
        ]
        assert main([*given, *how]) == 0, capsys.readouterr().err
    client.post(f"{piece}/handoff", data={"bake": 1, "place": str(tmp_path / "page")})
    made, page = ({file.name: file.read_bytes() for file in (tmp_path / of).glob("*.png")} for of in ("out", "page"))
    assert made == page != {}
    assert main([*given, "second"]) == 2
    assert "no bake called “second”" in capsys.readouterr().err


def test_a_piece_goes_out_as_one_file_and_comes_back_with_everything(client, piece, services):
    packing_piece(client, piece)
    client.post(f"{piece}/bakes/{services.pieces.get(piece_id_of(piece))[2][0].id}/name", data={"name": "first"})
    data = client.get(f"{piece}/piece.icast").content
    address = client.put("/pieces/open", params={"name": "ring.icast"}, content=data).json()["address"]
    mine, theirs = (services.pieces.get(piece_id_of(p)) for p in (piece, address))
    assert mine[0].recipe == theirs[0].recipe
    assert [row.copy for row in mine[1]] == [row.copy for row in theirs[1]]
    records = [[services.bakes.get(b.id) for b in found[2]] for found in (mine, theirs)]
    assert [(b.name, b.manifest, b.ended) for b in records[0]] == [(b.name, b.manifest, b.ended) for b in records[1]]
    panel = client.get(f"{address}/panel/review").text
    assert "changed since this bake" not in panel
    shown = client.get(f"{address}/bakes/{theirs[2][0].id}/normal.png")
    assert shown.content == client.get(f"{piece}/bakes/{mine[2][0].id}/normal.png").content
    assert client.get(f"{address}/piece.icast").content == data
    before = len(services.pieces.shelf())
    for bad in (b"nothing", data[: len(data) // 2]):
        refused = client.put("/pieces/open", params={"name": "ring.icast"}, content=bad)
        assert (refused.status_code, "ring.icast" in refused.json()["error"]) == (422, True)
    assert len(services.pieces.shelf()) == before
    assert list(services.store.files.incoming.iterdir()) == []


@pytest.fixture
def two(client, piece, ring_files):
    """A second piece, of another name, that no bake can be made of: its maps need UVs of a channel it has not."""
    tokens = {}
    for path in ring_files:
        tokens[client.put("/uploads", params={"name": path.name}, content=path.read_bytes()).json()["token"]] = ""
    address = client.post("/pieces", json={"name": "Broken ring", "roles": tokens}).json()["address"]
    client.post(f"{address}/settings/maps", data={"sheet.channel": "3", "sheet.width": "64", "sheet.height": "64"})
    return address


def wait_for_batch(client, services):
    for _ in range(1200):
        client.get("/batches")
        row = services.batches.all()[0]
        if row.ended:
            return row
    raise AssertionError("the batch did not end")


def test_a_batch_bakes_every_piece_goes_on_after_a_failure_and_says_so(client, piece, two, services, tmp_path):
    ids, out = [piece_id_of(piece), piece_id_of(two)], tmp_path / "out"
    client.post("/batches", data={"piece": ids, "receiver": "Object space", "place": str(out)})
    assert "Another one is at work" in client.post(
        "/batches", data={"piece": ids, "receiver": "Object space", "place": str(out)}
    ).text.replace("\n", " ")
    row = wait_for_batch(client, services)
    states = {own.piece: own.state for own in row.summary.outcomes}
    assert states == {"Ring <b>of</b> rope": "done", "Broken ring": "failed"}
    assert "no UVs" in row.summary.of("Broken ring").message or "UV" in row.summary.of("Broken ring").message
    assert json.loads((out / "summary.json").read_bytes()) == json.loads(row.summary.model_dump_json())
    assert (out / "Ring__b_of__b__rope" / "Ring__b_of__b__rope_normal_object.png").is_file()
    assert not (out / "Broken_ring").exists()
    assert recipe_of(services, piece).output.maps == ["normal", "normal_object"]  # as it was
    shelf = client.get("/").text
    assert "1 of 2 done" in shelf
    assert "1 failed" in shelf
    client.post(f"/batches/{row.id}/out")
    assert services.batches.all() == []
    for values, words in (
        ({"piece": [], "receiver": "Object space", "place": str(out)}, "No piece is ticked"),
        ({"piece": ids, "receiver": "None such", "place": str(out)}, "no such receiver"),
        ({"piece": ids, "receiver": "Object space", "place": "here"}, "whole path"),
    ):
        assert words in client.post("/batches", data=values).text


def test_a_batch_is_cancelled(client, piece, services, tmp_path):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "4096", "sheet.height": "4096", "sheet.samples": "64"})
    client.post(
        "/batches", data={"piece": [piece_id_of(piece)], "receiver": "Object space", "place": str(tmp_path / "out")}
    )
    client.post("/batches/cancel")
    row = wait_for_batch(client, services)
    assert [own.state for own in row.summary.outcomes] != ["done"]


def test_materials_are_kept_changed_assigned_and_carried(client, piece, services):
    at = f"{piece}/library"
    client.post(f"{at}/materials", data={"name": "Brass"})
    client.post(f"{at}/channels", data={"channels": "Colour, Roughness"})
    client.post(f"{at}/change", data={"name": "Brass", "channel": "Roughness", "color": "#404040"})
    client.post(f"{at}/change", data={"name": "Brass", "id_color": "#ff8800"})
    client.post(f"{at}/assign", data={"kind": "object", "name": "torus", "material": "Brass"})
    client.post(f"{at}/change", data={"name": "Brass", "to": "Old brass"})
    library = recipe_of(services, piece).library
    (brass,) = library.materials
    assert (brass.name, brass.id_color) == ("Old brass", "#ff8800")
    assert brass.colors == {"Colour": "#808080", "Roughness": "#404040"}
    assert library.of("object") == {"torus": "Old brass"}
    panel = client.get(f"{piece}/panel/maps").text
    assert "Old brass" in panel
    given = client.get(f"{at}.json").content
    assert json.loads(given)["assigned"] == []
    client.post(f"{at}/out", data={"name": "Old brass"})
    assert recipe_of(services, piece).library.materials == []
    assert client.put(at, params={"name": "lib.json"}, content=given).json() == {"materials": 1}
    assert recipe_of(services, piece).library.materials == [brass]
    assert client.post(f"{at}/materials", data={"name": "Old brass"}).status_code == 422
    assert "version 9" in client.put(at, params={"name": "lib.json"}, content=b'{"version": 9}').json()["error"]


class Held:
    """The ticket of a job that ends when it is stopped."""

    def __init__(self):
        self.future = Future()

    def stop(self):
        self.future.set_exception(JobFailed("cancelled", "Cancelled."))


def test_cancelling_ends_every_handoff_of_a_piece_that_is_at_work(
    client, piece, services, tmp_path, monkeypatch, facts
):
    bake = facts["id"]
    monkeypatch.setattr(services.engine, "submit", lambda job, **given: Held())
    with ThreadPoolExecutor() as threads:
        asked = [threads.submit(services.handoffs.hand_off, 1, bake, str(tmp_path / name)) for name in "ab"]
        while len(services.handoffs._tickets.get(1, [])) < 2:
            time.sleep(0.01)
        client.post(f"{piece}/handoff/cancel")
        assert [type(each.exception(timeout=10)) for each in asked] == [JobFailed, JobFailed]


def test_an_archive_is_sent_in_pieces_that_make_a_whole(tmp_path):
    large = bytes(range(256)) * 20_000
    (tmp_path / "large").write_bytes(large)
    pieces = list(zipped([("large.bin", tmp_path / "large"), ("small.txt", b"word")]))
    assert max(map(len, pieces)) < 2 * BLOCK
    with zipfile.ZipFile(io.BytesIO(b"".join(pieces))) as archive:
        assert archive.testzip() is None
        assert (archive.read("large.bin"), archive.read("small.txt")) == (large, b"word")


def test_a_client_that_goes_away_is_no_problem_of_its_file(services, ring_files, monkeypatch):
    """Its reading ends, and what is told of it is not that the file cannot be used."""
    stopped = []
    held = Held()
    held.stop = lambda: stopped.append(True)
    monkeypatch.setattr(services.uploads.engine, "submit", lambda job: held)
    with pytest.raises(JobFailed) as failed:
        services.uploads.take_from(str(ring_files[0]), lambda: True)
    assert (failed.value.kind, stopped) == ("cancelled", [True])
