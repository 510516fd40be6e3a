import json
import struct
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import gltf, ply_writer, read_mesh, write_mesh
from inkwell_cast.core.formats.numbers_in_text import read_number
from inkwell_cast.core.mesh.mesh import CornerValues, corner_positions, merge
from inkwell_cast.core.mesh.normals import with_normals
from inkwell_cast.core.mesh.vertex_colors import with_linear_colors

from ...shapes import cube, plane, torus


def dressed():
    """Two objects with two materials, normals, UVs that split vertices, and colours."""
    parts = []
    for n, (mesh, name, material) in enumerate([(torus(8, 6), "ring_low", "brass"), (cube(), "box_low", "ink glass")]):
        mesh = with_normals(mesh)
        rgba = np.full((len(mesh.positions), 4), 1, np.float32)
        rgba[:, n] = 0.2
        parts.append(
            replace(
                mesh,
                name=name,
                object_names=(name,),
                material_names=(material,),
                colors=CornerValues(rgba, mesh.triangles),
                material_colors=np.array([[0.25, 0.5, 0.75]], np.float32),
            )
        )
    return merge(parts, "dressed")


def assert_same_surface(found, expected, normals=True, uvs=True, exact_uv=True):
    """Corner by corner, whatever the order of objects inside the file kept."""
    np.testing.assert_array_equal(corner_positions(found), corner_positions(expected))
    if normals:
        np.testing.assert_array_equal(found.normals.at_corners(), expected.normals.at_corners())
    if uvs:
        a, b = found.uvs[0].at_corners(), expected.uvs[0].at_corners()
        np.testing.assert_allclose(a, b, atol=0 if exact_uv else 1e-7)


@pytest.mark.parametrize("suffix", ["obj", "ply", "glb"])
def test_round_trip(suffix, tmp_path):
    mesh = dressed()
    path = tmp_path / f"dressed.{suffix}"
    write_mesh(path, mesh)
    found = read_mesh(path)
    assert_same_surface(found, mesh, exact_uv=suffix != "glb")  # V is turned over twice on the way through glTF
    if suffix != "ply":
        assert found.object_names == ("ring_low", "box_low")
        assert found.material_names == ("brass", "ink glass")
        assert [found.object_of(t) for t in (0, len(found.triangles) - 1)] == ["ring_low", "box_low"]
    if suffix != "obj":
        colors = with_linear_colors(found).colors.at_corners()
        np.testing.assert_allclose(colors, mesh.colors.at_corners(), atol=1 / 255)


@pytest.mark.parametrize("form", ["ascii", "binary_little_endian", "binary_big_endian"])
def test_every_form_of_ply(form, tmp_path):
    ply_writer.write(tmp_path / "x.ply", dressed(), form)
    assert_same_surface(read_mesh(tmp_path / "x.ply"), dressed())


def test_ply_with_polygons_wedge_uvs_and_extra_properties(tmp_path):
    header = (
        "ply\nformat binary_{}_endian 1.0\ncomment made by hand\nelement vertex 5\nproperty double x\nproperty double y\n"
        "property double z\nproperty uchar red\nproperty uchar green\nproperty uchar blue\nelement face 2\n"
        "property list uchar ushort vertex_index\nproperty list uchar float texcoord\nproperty uchar flags\nend_header\n"
    )
    points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0.5, 0)]
    faces = [([0, 1, 2, 3], [0, 0, 1, 0, 1, 1, 0, 1]), ([1, 4, 2], [0.5, 0.5, 0.6, 0.5, 0.5, 0.6])]
    for order, word in (("<", "little"), (">", "big")):
        body = b"".join(struct.pack(f"{order}3d3B", *p, 255, 0, 51) for p in points)
        for corners, uv in faces:
            body += struct.pack(f"{order}B{len(corners)}H", len(corners), *corners)
            body += struct.pack(f"{order}B{len(uv)}fB", len(uv), *uv, 7)
        path = tmp_path / f"{word}.ply"
        path.write_bytes(header.format(word).encode() + body)
        mesh = read_mesh(path)
        assert len(mesh.triangles) == 3
        np.testing.assert_allclose(mesh.uvs[0].at_corners()[2], [[0.5, 0.5], [0.6, 0.5], [0.5, 0.6]])
        np.testing.assert_allclose(mesh.colors.at_corners()[0, 0], [1, 0, 0.2, 1], atol=1e-6)


OBJ = """# a square, then a triangle with negative indices
mtllib colours.mtl
v 0 0 0
v 1.0e0 0 0 # a comment
v 1 1 0
v 0 1 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
o square part
usemtl brass
f 1/1 2/2 \\
  3/3 4/4
v 2 0 0
v 3 0 0
v 3 1 0
vn 0 0 1
o tail
usemtl missing
f -3/-4/-1 -2/-3/-1 -1/-2/-1
"""


def test_obj_with_its_oddities(tmp_path):
    (tmp_path / "a.obj").write_bytes(OBJ.replace("\n", "\r\n").encode())
    (tmp_path / "colours.mtl").write_text("newmtl brass\nKd 0.6 0.4 0.1\n")
    mesh = read_mesh(tmp_path / "a.obj")
    assert mesh.object_names == ("square part", "tail")
    assert mesh.objects.tolist() == [0, 0, 1]
    assert mesh.material_names == ("brass", "missing")
    np.testing.assert_allclose(mesh.material_colors, [[0.6, 0.4, 0.1], [0.5, 0.5, 0.5]])
    np.testing.assert_array_equal(mesh.positions[mesh.triangles[2]], [[2, 0, 0], [3, 0, 0], [3, 1, 0]])
    assert mesh.uvs[0].at_corners()[2].tolist() == [[0, 0], [1, 0], [1, 1]]
    assert mesh.normals.corners.tolist() == [[-1] * 3, [-1] * 3, [0] * 3]


def test_obj_groups_name_objects_where_there_are_no_others(tmp_path):
    (tmp_path / "a.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\ng lid_high\nf 1 2 3\ng base_high\nf 3 2 1\n")
    assert read_mesh(tmp_path / "a.obj").object_names == ("lid_high", "base_high")


def test_obj_vertex_colours(tmp_path):
    (tmp_path / "a.obj").write_text("v 0 0 0 1 0 0\nv 1 0 0 0 1 0\nv 0 1 0 0 0 1\nf 1 2 3\n")
    np.testing.assert_array_equal(read_mesh(tmp_path / "a.obj").colors.at_corners()[0, :, :3], np.eye(3))


@settings(max_examples=300, deadline=None)
@given(st.floats(width=32, allow_nan=False, allow_infinity=False))
def test_numbers_come_back_as_float32(value):
    text = format(value, ".9g").encode()
    read, end = read_number(np.frombuffer(text, np.uint8), 0, len(text))
    assert np.float32(read) == np.float32(value)
    assert end == len(text)


def glb(document: dict, binary: bytes) -> bytes:
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    whole = struct.pack("<III", gltf.MAGIC, 2, 28 + len(text) + len(binary))
    return (
        whole
        + struct.pack("<II", len(text), gltf.JSON_CHUNK)
        + text
        + struct.pack("<II", len(binary), gltf.BIN_CHUNK)
        + binary
    )


def triangle_glb(**changes) -> bytes:
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4").tobytes()
    indices = np.array([0, 1, 2, 0], "<u2").tobytes()
    document = {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": [0]}],
        "nodes": [
            {"name": "turned", "children": [1], "rotation": [0, 0, 0.7071067811865476, 0.7071067811865476]},
            {"name": "part_high", "mesh": 0, "translation": [2, 0, 0], "scale": [1, 1, -1]},
        ],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5123, "count": 3, "type": "SCALAR"},
        ],
        "bufferViews": [
            {"buffer": 0, "byteOffset": 0, "byteLength": 36},
            {"buffer": 0, "byteOffset": 36, "byteLength": 6},
        ],
        "buffers": [{"byteLength": 44}],
    }
    return glb(document | changes, points + indices)


def test_glb_node_transforms_are_applied(tmp_path):
    (tmp_path / "a.glb").write_bytes(triangle_glb())
    mesh = read_mesh(tmp_path / "a.glb")
    assert mesh.object_names == ("part_high",)
    np.testing.assert_allclose(mesh.positions, [[0, 2, 0], [0, 3, 0], [-1, 2, 0]], atol=1e-6)
    assert mesh.triangles.tolist() == [[2, 1, 0]]  # the mirrored node keeps its outside outside


GOOD_PLY = b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n"
BAD_FILES = {
    "empty.obj": (b"", "No faces"),
    "points.obj": (b"v 0 0 0\nv 1 0 0\n", "No faces"),
    "range.obj": (b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "Line 4: a face names a vertex that is not there"),
    "zero.obj": (b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 0 1 2\n", "a face names a vertex"),
    "uv.obj": (b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1/1 2/1 3/1\n", "a UV that is not there"),
    "word.obj": (b"v 0 zero 0\nf 1 1 1\n", "Line 1: a number cannot be read"),
    "two.obj": (b"v 0 0 0\nv 1 0 0\nf 1 2\n", "has three corners"),
    "nan.obj": (
        b"o shell_high\nv 0 0 0\nv nan 0 0\nv 0 1 0\nf 1 2 3\n",
        "shell_high: 1 triangles have a position that is not",
    ),
    "inf.obj": (b"v 0 0 0\nv 1e999 0 0\nv 0 1 0\nf 1 2 3\n", "not a number"),
    "empty.ply": (b"", "does not begin like a PLY"),
    "endless.ply": (b"ply\nformat ascii 1.0\nelement vertex 3\n", "no end"),
    "header.ply": (b"ply\nformat ascii 1.0\nelement vertex many\nend_header\n", "element vertex many"),
    "cut.ply": (GOOD_PLY.replace(b"3 0 1 2\n", b""), "missing or not a number"),
    "range.ply": (GOOD_PLY.replace(b"3 0 1 2", b"3 0 1 7"), "names vertex 7, but there are 3"),
    "points.ply": (GOOD_PLY.replace(b"face 1", b"face 0").replace(b"3 0 1 2\n", b""), "no faces"),
    "huge.ply": (
        GOOD_PLY.replace(b"ascii", b"binary_little_endian").replace(b"vertex 3", b"vertex 3000000000"),
        "truncated",
    ),
    "empty.glb": (b"", "ends too early"),
    "other.glb": (b"not a glb file at all, really", "not a GLB file"),
    "cut.glb": (triangle_glb()[:-20], "truncated"),
    "view.glb": (
        triangle_glb(bufferViews=[{"buffer": 0, "byteLength": 9, "byteOffset": 40}] * 2),
        "reaches past the end",
    ),
    "names.glb": (triangle_glb(meshes=[]), "not there"),
    "packed.glb": (triangle_glb(extensionsRequired=["EXT_meshopt_compression"]), "EXT_meshopt_compression"),
    "loop.glb": (triangle_glb(nodes=[{"children": [0]}]), "its own child"),
    "mesh.xyz": (b"", "Files of type .xyz cannot be read. Use one of OBJ, PLY, STL, GLB"),
    "mesh": (b"", "without a suffix"),
}


@pytest.mark.parametrize("name", BAD_FILES)
def test_bad_files_are_refused_by_name(name, tmp_path):
    content, words = BAD_FILES[name]
    (tmp_path / name).write_bytes(content)
    with pytest.raises(InputProblem) as refused:
        read_mesh(tmp_path / name)
    assert str(refused.value).startswith(name)
    assert words in str(refused.value)
    assert refused.value.remedy


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=400), st.sampled_from([".obj", ".ply", ".glb"]), st.integers(0, 60))
def test_noise_is_refused_and_nothing_worse(tmp_path_factory, noise, suffix, kept):
    """Noise, alone and after the beginning of a good file, ends in an InputProblem or in a mesh."""
    start = {".obj": OBJ.encode(), ".ply": GOOD_PLY, ".glb": triangle_glb()}[suffix]
    path = tmp_path_factory.mktemp("noise") / f"noise{suffix}"
    path.write_bytes(start[: len(start) * kept // 60] + noise)
    try:
        mesh = read_mesh(path)
    except InputProblem:
        return
    assert mesh.triangles.max(initial=-1) < len(mesh.positions)


def test_merge_keeps_names_and_marks_what_is_missing():
    both = merge([plane(name="a"), replace(torus(6, 5), uvs=())], "both")
    assert both.object_names == ("a", "torus")
    assert (both.uvs[0].corners[2:] == -1).all()
    assert not both.uvs[0].complete
    assert both.uvs[0].at_corners()[2:].max() == 0
