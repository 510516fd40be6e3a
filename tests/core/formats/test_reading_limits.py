"""Files that would grow without end, and files that lie about what they hold."""

import json
import struct
import time
from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.base.errors import Cancelled, InputProblem
from inkwell_cast.core.formats import files_beside, glb_writer, obj, read_mesh, reading_budget, write_mesh
from inkwell_cast.core.formats.files_beside import companions_of
from inkwell_cast.core.formats.reading_budget import Budget
from inkwell_cast.core.mesh.mesh import CornerValues, corner_positions
from inkwell_cast.core.mesh.normals import with_normals

from ...shapes import torus


def glb(path, document, binary=b""):
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    chunks = struct.pack("<II", len(text), glb_writer.JSON_CHUNK) + text
    chunks += struct.pack("<II", len(binary), glb_writer.BIN_CHUNK) + binary
    path.write_bytes(struct.pack("<III", glb_writer.MAGIC, 2, 12 + len(chunks)) + chunks)
    return path


def triangle(**more):
    """A document with one triangle in mesh 0, and its bytes."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4").tobytes()
    document = {
        "asset": {"version": "2.0"},
        "buffers": [{"byteLength": len(points)}],
        "bufferViews": [{"buffer": 0, "byteLength": len(points)}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "nodes": [{"mesh": 0}],
        "scenes": [{"nodes": [0]}],
    }
    return document | more, points


def test_nodes_that_each_name_the_next_twice_are_refused_at_once(tmp_path):
    nodes = [{"children": [n + 1, n + 1]} for n in range(30)] + [{"mesh": 0}]
    document, points = triangle(nodes=nodes)
    started = time.monotonic()
    with pytest.raises(InputProblem, match="This file would become more than 100,000 instances"):
        read_mesh(glb(tmp_path / "x.glb", document, points))
    assert time.monotonic() - started < 20


def test_primitives_that_share_an_array_are_counted_before_they_are_made(tmp_path):
    count = 20_000
    points = np.zeros((count, 3), "<f4").tobytes()
    document, _ = triangle()
    document["buffers"] = document["bufferViews"] = [{"buffer": 0, "byteLength": len(points)}]
    document["accessors"][0]["count"] = count
    document["meshes"][0]["primitives"] *= 3000
    with pytest.raises(InputProblem, match=r"x\.glb: This file would become \d million vertices"):
        read_mesh(glb(tmp_path / "x.glb", document, points))


def test_a_ply_whose_bytes_cannot_hold_its_lists_is_refused(tmp_path):
    lists = "".join(f"property list uchar int l{n}\n" for n in range(980))
    head = f"ply\nformat binary_little_endian 1.0\nelement vertex 60000\n{lists}end_header\n"
    (tmp_path / "x.ply").write_bytes(head.encode() + b"\0" * 100_000)
    with pytest.raises(InputProblem, match=r"60,000 vertex rows of 980 values, which take 58,800,000 bytes"):
        read_mesh(tmp_path / "x.ply")


@pytest.mark.parametrize("what", ["o", "usemtl"])
def test_thousands_of_names_take_no_time(tmp_path, what):
    faces = "".join(f"{what} name {n}\nf 1 2 3\n" for n in range(20_000))
    (tmp_path / "a.mtl").write_text("".join(f"newmtl name {n}\nKd 1 0 0\n" for n in range(20_000)))
    (tmp_path / "x.obj").write_text(f"mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\n{faces}")
    found, seconds = timed(tmp_path / "x.obj")
    assert len(found.triangles) == 20_000
    assert seconds < 20
    if what == "usemtl":
        assert found.material_colors[found.materials[7]].tolist() == [1, 0, 0]


def timed(path):
    started = time.monotonic()
    found = read_mesh(path)
    return found, time.monotonic() - started


def test_thousands_of_named_nodes_take_no_time(tmp_path):
    document, points = triangle(nodes=[{"mesh": 0, "name": f"n{n}"} for n in range(20_000)])
    document["scenes"] = [{"nodes": list(range(20_000))}]
    found, seconds = timed(glb(tmp_path / "x.glb", document, points))
    assert len(found.object_names) == 20_000
    assert seconds < 20


@pytest.mark.parametrize("line", ["o " + "x" * 4_000_000, "f" + " 1 2 3" * 300_000, "# " + "y" * 4_000_000])
def test_a_line_of_megabytes_is_read_or_refused_soon(tmp_path, line):
    (tmp_path / "x.obj").write_text(f"v 0 0 0\nv 1 0 0\nv 0 1 0\n{line}\nf 1 2 3\n")
    found, seconds = timed(tmp_path / "x.obj")
    assert seconds < 20
    assert max(map(len, found.object_names)) <= 200


def test_a_budget_counts_and_says_what_a_file_would_become(monkeypatch):
    budget = Budget("lid.glb", size=1000)
    budget.take(3_000_000, 3_000_000)
    with pytest.raises(InputProblem, match=r"lid\.glb: This file would become 90 million vertices"):
        budget.take(vertices=87_000_000)
    Budget("lid.glb", size=200_000_000).take(vertices=90_000_000, faces=1)
    monkeypatch.setattr(reading_budget, "free", lambda: 1 << 20)
    with pytest.raises(InputProblem, match="in memory"):
        Budget("lid.glb", size=200_000_000).take(vertices=90_000_000)
    monkeypatch.setattr(reading_budget, "MOST_SECONDS", -1)
    with pytest.raises(InputProblem, match="took more than"):
        Budget("lid.glb", size=1).look()


@pytest.mark.parametrize("suffix", [".obj", ".ply", ".stl", ".glb"])
def test_reading_is_given_up_when_nobody_waits(tmp_path, suffix):
    from inkwell_cast.core.formats import write_mesh

    path = tmp_path / f"x{suffix}"
    if suffix == ".stl":
        path.write_bytes(b"\0" * 80 + struct.pack("<I", 1) + b"\0" * 50)
    else:
        write_mesh(path, torus(8, 6))
    with pytest.raises(Cancelled):
        read_mesh(path, cancelled=lambda: True)


# what is read where it was refused or misread before


def test_strips_and_fans_become_triangles(tmp_path):
    points = np.array([[0, 0, 0], [0, 1, 0], [1, 0, 0], [1, 1, 0], [1, 1, 0]], "<f4").tobytes()
    for mode, wanted in ((5, [[0, 1, 2], [1, 3, 2]]), (6, [[0, 1, 2], [0, 2, 3], [0, 3, 4]])):
        document, _ = triangle()
        document["buffers"] = document["bufferViews"] = [{"buffer": 0, "byteLength": len(points)}]
        document["accessors"][0]["count"] = 5
        document["meshes"][0]["primitives"][0]["mode"] = mode
        found = read_mesh(glb(tmp_path / "x.glb", document, points))
        assert found.triangles[: len(wanted)].tolist() == wanted


def test_sparse_accessors_and_such_without_a_view_are_read(tmp_path):
    index, value = np.array([1], "<u2").tobytes() + b"\0\0", np.array([[5, 6, 7]], "<f4").tobytes()
    document, points = triangle()
    document["buffers"][0]["byteLength"] = len(points + index + value)
    document["bufferViews"] += [
        {"buffer": 0, "byteOffset": len(points), "byteLength": 2},
        {"buffer": 0, "byteOffset": len(points) + 4, "byteLength": 12},
    ]
    document["accessors"][0]["sparse"] = {
        "count": 1,
        "indices": {"bufferView": 1, "componentType": 5123},
        "values": {"bufferView": 2},
    }
    found = read_mesh(glb(tmp_path / "x.glb", document, points + index + value))
    assert found.positions.tolist() == [[0, 0, 0], [5, 6, 7], [0, 1, 0]]
    del document["accessors"][0]["bufferView"]
    found = read_mesh(glb(tmp_path / "x.glb", document, points + index + value))
    assert found.positions.tolist() == [[0, 0, 0], [5, 6, 7], [0, 0, 0]]


def test_instances_are_read_and_what_has_no_faces_is_told(tmp_path):
    places = np.array([[0, 0, 0], [10, 0, 0]], "<f4").tobytes()
    document, points = triangle(extensionsRequired=["EXT_mesh_gpu_instancing"])
    document["buffers"][0]["byteLength"] = len(points + places)
    document["bufferViews"].append({"buffer": 0, "byteOffset": len(points), "byteLength": len(places)})
    document["accessors"].append({"bufferView": 1, "componentType": 5126, "count": 2, "type": "VEC3"})
    document["nodes"][0]["extensions"] = {"EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": 1}}}
    document["meshes"][0]["primitives"].append({"attributes": {"POSITION": 0}, "mode": 1})
    found = read_mesh(glb(tmp_path / "x.glb", document, points + places))
    assert found.bounds.tolist() == [[0, 0, 0], [11, 1, 0]]
    assert found.notes == ("mesh 0 holds lines, which were left out.",)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"extensionsRequired": ["KHR_draco_mesh_compression"]}, "needs the extension KHR_draco_mesh_compression"),
        ({"nodes": [{"mesh": 0, "name": {"not": "text"}}]}, ""),
        ({"nodes": [{"mesh": 0, "name": "two\nlines"}]}, ""),
    ],
)
def test_odd_documents_are_read_or_told_of(tmp_path, change, words):
    document, points = triangle(**change)
    path = glb(tmp_path / "x.glb", document, points)
    if words:
        with pytest.raises(InputProblem, match=words):
            read_mesh(path)
    else:
        assert "\n" not in read_mesh(path).object_names[0]


def test_deep_json_is_told(tmp_path):
    text = b'{"asset": ' + b"[" * 200_000 + b"]" * 200_000 + b"}"
    (tmp_path / "x.gltf").write_bytes(text)
    with pytest.raises(InputProblem, match="damaged"):
        read_mesh(tmp_path / "x.gltf")
    chunk = struct.pack("<II", len(text), glb_writer.JSON_CHUNK) + text
    (tmp_path / "x.glb").write_bytes(struct.pack("<III", glb_writer.MAGIC, 2, 12 + len(chunk)) + chunk)
    with pytest.raises(InputProblem, match="damaged"):
        read_mesh(tmp_path / "x.glb")


OBJ = "v 0 0 0\nv 1 0 0\nv 0 1 0\n"


def test_obj_begins_with_a_mark_goes_on_after_a_backslash_and_tells_the_right_line(tmp_path):
    path = tmp_path / "x.obj"
    path.write_bytes(b"\xef\xbb\xbf" + f"{OBJ}f 1 \\\n2 3\n".encode())
    assert len(read_mesh(path).triangles) == 1
    path.write_text(f"{OBJ}f 1 \\\n2 3\nf 1 2 x\n")
    with pytest.raises(InputProblem, match="Line 6"):
        read_mesh(path)


def test_obj_skips_faces_of_two_corners_and_says_so(tmp_path):
    (tmp_path / "x.obj").write_text(f"{OBJ}o a\nf 1 2\nf 1 2 3\no b\nf 3 2 1\nf 1\n")
    found = read_mesh(tmp_path / "x.obj")
    assert found.triangles.tolist() == [[0, 1, 2], [2, 1, 0]]
    assert [found.object_names[n] for n in found.objects] == ["a", "b"]
    assert found.notes == ("2 faces have fewer than three corners and were left out.",)


def test_obj_names_may_be_latin_and_weights_stand_before_colours(tmp_path):
    rows = "v 0 0 0 1 1 0 0\nv 1 0 0 1 0 1 0\nv 0 1 0 1 0 0 1\n"
    (tmp_path / "x.obj").write_bytes(rows.encode() + "o Geländer\nf 1 2 3\n".encode("latin-1"))
    found = read_mesh(tmp_path / "x.obj")
    assert found.object_names == ("Geländer",)
    np.testing.assert_array_equal(found.colors.at_corners()[0, :, :3], np.eye(3))


PLY = """ply
format ascii 1.0
element edge 1
property list uchar int pair
element vertex 3
property float x
property list uchar float extra
property float y
property float z
property uchar red
property uchar green
property uchar blue
element face 1
property list uchar int vertex_indices
end_header
2 0 1
0 2 7.5 8.5 0 0 255 0 51
1 0 0 0 255 0 51
0 1 9 1 0 255 0 51
3 0 1 2
"""


def test_ascii_ply_has_lists_anywhere_and_colours_of_its_type(tmp_path):
    (tmp_path / "x.ply").write_text(PLY)
    found = read_mesh(tmp_path / "x.ply")
    np.testing.assert_array_equal(found.positions, [[0, 0, 0], [1, 0, 0], [0, 1, 0]])
    np.testing.assert_allclose(found.colors.at_corners()[0, 0], [1, 0, 0.2, 1])
    assert found.color_space == "srgb"


def test_stl_in_capitals_is_text_too(tmp_path):
    text = "SOLID CAP\nFACET NORMAL 0 0 1\nOUTER LOOP\nVERTEX 0 0 0\nVERTEX 1 0 0\nVERTEX 0 1 0\nENDLOOP\nENDFACET\n"
    (tmp_path / "x.stl").write_text(text + "ENDSOLID CAP\n")
    assert len(read_mesh(tmp_path / "x.stl").triangles) == 1


def test_colours_that_are_no_numbers_become_grey_and_are_told(tmp_path):
    (tmp_path / "x.obj").write_text("v 0 0 0 nan 0 0\nv 1 0 0 0 1 0\nv 0 1 0 0 0 -1\nf 1 2 3\n")
    found = read_mesh(tmp_path / "x.obj")
    assert np.isfinite(found.colors.values).all()
    assert found.notes == ("2 vertex colours are no numbers, or below 0; they are taken as grey.",)


def test_a_damaged_picture_beside_an_obj_is_told(tmp_path):
    (tmp_path / "a.mtl").write_text("newmtl m\nmap_Kd wood.png\n")
    (tmp_path / "x.obj").write_text(f"mtllib a.mtl\n{OBJ}usemtl m\nf 1 2 3\n")
    for data in (b"\x89PNG\r\n\x1a\n" + b"\0" * 40, b"GIF89a" + b"\xff" * 30, b""):
        (tmp_path / "wood.png").write_bytes(data)
        with pytest.raises(InputProblem, match=r"wood\.png"):
            read_mesh(tmp_path / "x.obj")


def test_names_cannot_break_an_exported_obj(tmp_path):
    odd = ("a\nf 1 1 1", "b\r\nv nan nan nan", "c\\")
    mesh = torus(3, 3)
    objects = np.arange(len(mesh.triangles), dtype=np.int32) % 3
    write_mesh(
        tmp_path / "x.obj", replace(mesh, objects=objects, object_names=odd, materials=objects, material_names=odd)
    )
    assert len(read_mesh(tmp_path / "x.obj").triangles) == len(mesh.triangles)


def test_a_glb_holds_each_object_s_triangles_of_each_material_and_only_whole_layers(tmp_path):
    mesh = with_normals(torus(6, 4))
    objects = (np.arange(len(mesh.triangles), dtype=np.int32) % 3)[::-1].copy()
    materials = np.arange(len(mesh.triangles), dtype=np.int32) % 2
    uv = mesh.uvs[0]
    lacking = CornerValues(uv.values, np.where((objects == 1)[:, None], -1, uv.corners).astype(np.int32))
    write_mesh(
        tmp_path / "x.glb",
        replace(
            mesh,
            objects=objects,
            object_names=("a", "b", "c"),
            materials=materials,
            material_names=("m", "n"),
            material_colors=np.full((2, 3), 0.5, np.float32),
            uvs=(lacking,),
        ),
    )
    found = read_mesh(tmp_path / "x.glb")
    assert (found.object_names, found.material_names) == (("a", "b", "c"), ("m", "n"))
    order = np.lexsort((materials, objects))
    np.testing.assert_array_equal(corner_positions(found), corner_positions(mesh)[order])
    np.testing.assert_array_equal(found.materials, materials[order])
    assert ((found.uvs[0].corners < 0).all(axis=1) == (objects[order] == 1)).all()


def test_names_that_no_file_can_have_are_passed_over(tmp_path):
    (tmp_path / "a.mtl").write_bytes(b"newmtl m\nmap_Kd a\0b.png\n")
    for library in ("a\0b.mtl", "a.mtl"):
        (tmp_path / "x.obj").write_text(f"mtllib {library}\n{OBJ}usemtl m\nf 1 2 3\n")
        assert len(read_mesh(tmp_path / "x.obj").triangles) == 1


def test_files_beside_an_obj_are_looked_for_line_by_line(tmp_path):
    text = "\n" * 1000 + "newmtl m\n map_Kd my wood.png\n\nnewmtl n\nmap_Kd -s 1 1 1 stone.png"
    (tmp_path / "a.mtl").write_text(text)
    (tmp_path / "x.obj").write_text("\n" * 1000 + f"\tmtllib a.mtl\n{OBJ}f 1 2 3\n")
    for name in ("my wood.png", "stone.png"):
        (tmp_path / name).touch()
    found = companions_of(tmp_path / "x.obj")
    assert [file.name for file in found] == ["a.mtl", "my wood.png", "stone.png"]
    # a search that may begin on one line and end on another tries every pair of blank lines
    for pattern, word in ((files_beside.LIBRARY, b"mtllib"), (files_beside.PICTURE, b"map_Kd")):
        assert b"\n" not in pattern.search(b"\n\n" + word + b" a\n\n").group()
        assert pattern.search(word + b"\na\n") is None


def test_no_way_of_writing_an_obj_needs_kernels_of_its_own(tmp_path):
    (tmp_path / "x.obj").write_text(f"{OBJ}f 1 2 3\n")
    read_mesh(tmp_path / "x.obj")
    known = len(obj._fill.made().signatures)
    (tmp_path / "y.obj").write_text(f"mtllib ..\\a.mtl\n{OBJ}f 1 2 \\\n3\n")
    assert len(read_mesh(tmp_path / "y.obj").triangles) == 1
    assert len(obj._fill.made().signatures) == known
