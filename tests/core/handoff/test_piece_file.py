"""Portable piece files: everything comes back, and nothing that was made to harm gets in."""

import contextlib
import json
import zipfile
from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff import piece_file
from inkwell_cast.core.handoff.piece_file import PieceFile, read_contents, read_piece, unpack_piece, write_meshes
from inkwell_cast.core.mesh.binary_message import read_foreign, write_packed
from inkwell_cast.core.mesh.mesh import CornerValues
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import torus

SHA = "0" * 64
RECIPE = Recipe(reach=Reach(outward=3))


@pytest.fixture
def ring(tmp_path):
    path = tmp_path / "ring.icast"
    low = torus(12, 6)
    meshes = [replace(low, name="ring_low.obj"), replace(torus(40, 20), name="ring_high.ply")]
    write_meshes(path, "Ring", RECIPE, [(mesh, SHA) for mesh in meshes])
    return path, meshes


def rewritten(path, change=None, drop=(), **add):
    """The archive with another piece.json, some entries dropped and some added."""
    other = path.with_name("other.icast")
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(other, "w", zipfile.ZIP_DEFLATED) as sink:
        for entry in source.infolist():
            data = source.read(entry)
            if entry.filename == "piece.json" and change is not None:
                data = change(json.loads(data))
                data = data if isinstance(data, bytes) else json.dumps(data).encode()
            if entry.filename not in drop:
                sink.writestr(entry.filename, data)
        for name, data in add.get("entries", {}).items():
            sink.writestr(name, data)
    return other


def test_a_piece_comes_back_bit_for_bit(ring):
    path, meshes = ring
    piece, found = read_piece(path)
    assert (piece.name, piece.recipe) == ("Ring", RECIPE)
    for was, now in zip(meshes, found, strict=True):
        assert now.name == was.name
        np.testing.assert_array_equal(now.positions, was.positions)
        np.testing.assert_array_equal(now.uvs[0].at_corners(), was.uvs[0].at_corners())
    again = path.with_name("again.icast")
    write_meshes(again, "Ring", RECIPE, [(mesh, SHA) for mesh in meshes])
    assert again.read_bytes() == path.read_bytes()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda piece: piece | {"version": 2}, "piece of version 2; this program knows 1. Install the newer"),
        (lambda piece: piece | {"kind": "x"}, "no piece file"),
        (lambda piece: [], "no piece file"),
        (lambda piece: b"{", "piece.json cannot be read"),
        (lambda piece: piece | {"recipe": {"reach": {"outward": -1}}}, "recipe.reach.outward cannot be used"),
        (lambda piece: piece | {"meshes": [piece["meshes"][0] | {"file": "../../etc/x"}]}, "meshes.0.file"),
        (lambda piece: piece | {"meshes": [piece["meshes"][0] | {"copy": "../x"}]}, "meshes.0.copy"),
        (lambda piece: piece | {"meshes": [piece["meshes"][0] | {"copy": "a" * 64}]}, "lacks ring_low.obj"),
        (lambda piece: piece | {"meshes": piece["meshes"][:1] * 2}, "one name"),
    ],
)
def test_a_piece_that_says_what_it_may_not_is_refused(ring, change, words):
    with pytest.raises(InputProblem, match=rf"other\.icast: .*{words}"):
        read_contents(rewritten(ring[0], change))


@pytest.mark.parametrize("name", ["../climbs.txt", "/etc/passwd", "files/../../x", "files/short", "extra.txt"])
def test_paths_that_climb_or_do_not_belong_are_refused(ring, tmp_path, name):
    path = rewritten(ring[0], entries={name: b"x"})
    with pytest.raises(InputProblem, match="which no piece file has"):
        unpack_piece(path, tmp_path)


def test_an_archive_that_would_unpack_to_far_more_is_refused(ring, tmp_path):
    bomb = rewritten(ring[0], entries={f"files/{'b' * 64}": b"\0" * 150_000_000})
    assert bomb.stat().st_size < 1_000_000
    with pytest.raises(InputProblem, match=r"would unpack 4 files and 0\.2 GB from 0\.\d MB"):
        unpack_piece(bomb, tmp_path)


def test_contents_that_changed_are_found(ring, tmp_path):
    with zipfile.ZipFile(ring[0]) as archive:
        name = next(n for n in archive.namelist() if n.startswith("files/"))
    other = rewritten(ring[0], drop=(name,), entries={name: b"something else"})
    with pytest.raises(InputProblem, match="not what they should be"):
        unpack_piece(other, tmp_path)


def test_damaged_and_missing_files_are_said(ring, tmp_path):
    data = ring[0].read_bytes()
    for n, bad in enumerate((b"", b"PK", data[:-40], data[:2000])):
        (tmp_path / f"{n}.icast").write_bytes(bad)
        with pytest.raises(InputProblem, match=rf"{n}\.icast: "):
            read_contents(tmp_path / f"{n}.icast")
    with pytest.raises(InputProblem, match="cannot be read"):
        read_contents(tmp_path / "none.icast")
    for at in range(100, len(data), max(1, len(data) // 40)):  # a byte that fell over, anywhere
        (tmp_path / "bit.icast").write_bytes(data[:at] + bytes([data[at] ^ 0x55]) + data[at + 1 :])
        with contextlib.suppress(InputProblem):
            read_piece(tmp_path / "bit.icast")


def test_a_full_disk_is_told_before_anything_is_unpacked(ring, tmp_path, monkeypatch):
    monkeypatch.setattr(piece_file.shutil, "disk_usage", lambda folder: type("Usage", (), {"free": 10}))
    (tmp_path / "in").mkdir()
    with pytest.raises(InputProblem, match="are free"):
        unpack_piece(ring[0], tmp_path / "in")
    assert list((tmp_path / "in").iterdir()) == []


LOW = torus(12, 6)


@pytest.mark.parametrize(
    ("mesh", "words"),
    [
        (replace(LOW, triangles=LOW.triangles + 1000), "name rows that are not there"),
        (replace(LOW, triangles=LOW.triangles - 1), "name rows that are not there"),
        (replace(LOW, positions=LOW.positions * np.float32(np.nan)), "no finite numbers"),
        (replace(LOW, positions=LOW.positions.astype(np.float16)), "no finite numbers"),
        (replace(LOW, uvs=(CornerValues(LOW.uvs[0].values, LOW.uvs[0].corners[:5]),)), "do not fit its triangles"),
        (replace(LOW, uvs=(CornerValues(LOW.uvs[0].values[:5], LOW.uvs[0].corners),)), "name rows that are not there"),
        (replace(LOW, objects=np.full(len(LOW.triangles), 7, np.int32)), "objects are not those"),
        (replace(LOW, triangles=LOW.triangles[:0], uvs=(), normals=None), "no triangles"),
    ],
)
def test_a_mesh_from_elsewhere_is_checked_before_anything_computes_with_it(tmp_path, mesh, words):
    write_packed(tmp_path / "mesh", mesh)
    with pytest.raises(InputProblem, match=rf"ring: .*{words}"):
        read_foreign((tmp_path / "mesh").read_bytes(), "ring")


def test_a_packed_mesh_that_is_cut_or_scrambled_is_refused_or_harmless(tmp_path):
    write_packed(tmp_path / "mesh", LOW)
    data = (tmp_path / "mesh").read_bytes()
    for cut in range(0, len(data) - 1, max(1, len(data) // 60)):
        with pytest.raises(InputProblem):
            read_foreign(data[:cut], "ring")
    assert isinstance(PieceFile(name="x", recipe=RECIPE, meshes=[]).hashes, set)


def with_bake(given, **odd):
    """The piece with a bake whose manifest says something odd."""
    made = {
        "recipe": {},
        "meshes": [],
        "diagonal": 1,
        "outward_reach": 1,
        "inward_reach": 1,
        "coverage": 1,
        "texels": 1,
        "missed_texels": 0,
        "shared_texels": 0,
        "warnings": [],
        "seconds": {},
        "maps": [{"key": "normal", "file": "normal.png", "sha256": SHA, "facts": {}} | odd.pop("map", {})],
        "sheets": [
            {"name": "", "width": 4, "height": 4, "coverage": 1, "texels": 1, "missed_texels": 0, "shared_texels": 0}
        ],
    } | odd.pop("manifest", {})
    return given | {"bakes": [{"created": 0, "manifest": made, "pictures": []} | odd]}


def test_a_bake_from_elsewhere_comes_in(ring):
    assert len(read_contents(rewritten(ring[0], with_bake)).bakes) == 1


@pytest.mark.parametrize(
    "odd",
    [
        {"created": 1e300},
        {"ended": -5},
        {"name": "up\nside"},
        {"name": "turned \u202e over"},
        {"map": {"file": "../../climbs.png"}},
        {"map": {"file": "c:\\climbs.png"}},
        {"map": {"preview": "/etc/climbs.png"}},
        {"map": {"facts": {"legend": ["no", "legend"]}}},
        {"map": {"facts": {"legend": {"lid": "red; background: url(x)"}}}},
        {"map": {"facts": {"black": {"deep": "thing"}}}},
        {"map": {"sheet": "nowhere"}},
        {"manifest": {"sheets": []}},
        {"manifest": {"maps": []}},
    ],
)
def test_a_bake_that_no_program_wrote_is_refused(ring, odd):
    with pytest.raises(InputProblem, match=r"other\.icast"):
        read_contents(rewritten(ring[0], lambda given: with_bake(given, **odd)))


@pytest.mark.parametrize("name", ["", "a\x00b", "x" * 201, "line\nbreak"])
def test_names_that_cannot_be_shown_are_refused(ring, name):
    with pytest.raises(InputProblem, match="Its name cannot be used"):
        read_contents(rewritten(ring[0], lambda given: given | {"name": name}))
