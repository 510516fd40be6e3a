"""STL, glTF in text, FBX, USD, and the packed form; the older formats are in test_formats."""

import base64
import json
import struct
from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import fbx, gltf, read_mesh, usd, write_mesh
from inkwell_cast.core.mesh.binary_message import read_packed, write_packed
from inkwell_cast.core.mesh.mesh import CornerValues, corner_positions, values_at_corners
from inkwell_cast.core.mesh.transforms import transformed
from inkwell_cast.core.mesh.vertex_colors import with_linear_colors

from ...shapes import cube, torus
from .test_formats import assert_same_surface, dressed


def test_binary_stl_joins_equal_corners(tmp_path):
    mesh = torus(12, 8)
    corners = corner_positions(mesh)
    rows = b"".join(struct.pack("<12fH", 0, 0, 0, *t.reshape(-1), 0) for t in corners)
    (tmp_path / "x.stl").write_bytes(b"solid but binary".ljust(80) + struct.pack("<I", len(corners)) + rows)
    found = read_mesh(tmp_path / "x.stl")
    np.testing.assert_array_equal(corner_positions(found), corners)
    assert len(found.positions) == 12 * 8
    assert found.object_names == ("x",)


def test_ascii_stl_keeps_the_names_of_its_solids(tmp_path):
    facet = "facet normal 0 0 1\nouter loop\nvertex 0 0 {z}\nvertex 1 0 {z}\nvertex 0 1e0 {z}\nendloop\nendfacet\n"
    text = "".join(f"solid part {z}\n{facet.format(z=z)}endsolid part {z}\n" for z in (1, 2))
    (tmp_path / "x.stl").write_text(text)
    found = read_mesh(tmp_path / "x.stl")
    assert found.object_names == ("part 1", "part 2")
    np.testing.assert_array_equal(corner_positions(found)[1], [[0, 0, 2], [1, 0, 2], [0, 1, 2]])


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "ends too early"),
        (b"x" * 80 + struct.pack("<I", 5) + b"y" * 60, "says it holds 5 triangles"),
        (b"solid a\nfacet\nvertex 0 0 x\nendsolid", "lacks a corner"),
        (b"solid a\nendsolid", "no triangles"),
    ],
)
def test_bad_stl_is_refused(content, words, tmp_path):
    (tmp_path / "bad.stl").write_bytes(content)
    with pytest.raises(InputProblem, match=words):
        read_mesh(tmp_path / "bad.stl")


def as_text(path, embedded):
    """The GLB at `path` as .gltf, its buffer beside it or inside."""
    document, binary = gltf._chunks(path)
    data = binary.tobytes()
    (path.parent / "data one.bin").write_bytes(data)
    uri = (
        "data:application/octet-stream;base64," + base64.b64encode(data).decode()
        if embedded
        else "folder/data%20one.bin"
    )
    document["buffers"][0]["uri"] = uri
    path.with_suffix(".gltf").write_text(json.dumps(document))
    return path.with_suffix(".gltf")


@pytest.mark.parametrize("embedded", [True, False])
def test_gltf_in_text_with_its_buffer_inside_or_beside_it(embedded, tmp_path):
    write_mesh(tmp_path / "x.glb", dressed())
    path = as_text(tmp_path / "x.glb", embedded)
    assert_same_surface(read_mesh(path), dressed(), exact_uv=False)
    if not embedded:
        (tmp_path / "data one.bin").unlink()
        with pytest.raises(InputProblem, match=r"“data one\.bin”, which is not beside it"):
            read_mesh(path)


def test_no_reader_follows_a_path_out_of_its_folder(tmp_path):
    (tmp_path / "in").mkdir()
    (tmp_path / "secret.bin").write_bytes(b"x" * 400)
    write_mesh(tmp_path / "in" / "x.glb", cube())
    path = as_text(tmp_path / "in" / "x.glb", False)
    path.write_text(path.read_text().replace("folder/data%20one.bin", "../secret.bin"))
    with pytest.raises(InputProblem, match="not beside it"):
        read_mesh(path)
    (tmp_path / "colours.mtl").write_text("newmtl brass\nKd 1 0 0\n")
    (tmp_path / "in" / "x.obj").write_text("mtllib ../colours.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl brass\nf 1 2 3\n")
    assert read_mesh(tmp_path / "in" / "x.obj").material_colors.tolist() == [[0.5, 0.5, 0.5]]


def test_glb_keeps_tangents_and_every_uv_channel(tmp_path):
    mesh = torus(8, 6)
    tangents = np.tile(np.array([1, 0, 0, -1], np.float32), (len(mesh.positions), 1))
    second = CornerValues(mesh.uvs[0].values * np.float32(0.5), mesh.triangles)
    mesh = replace(mesh, tangents=CornerValues(tangents, mesh.triangles), uvs=(*mesh.uvs, second))
    write_mesh(tmp_path / "x.glb", mesh)
    found = read_mesh(tmp_path / "x.glb")
    assert len(found.uvs) == 2
    np.testing.assert_array_equal(found.tangents.at_corners()[0, 0], [1, 0, 0, -1])
    mirrored = transformed(found, np.diag([-1.0, 1, 1, 1]))
    np.testing.assert_array_equal(mirrored.tangents.at_corners()[0, 0], [-1, 0, 0, 1])
    np.testing.assert_array_equal(mirrored.triangles, found.triangles[:, ::-1])


def test_obj_brings_colours_materials_and_polygons_back(tmp_path):
    write_mesh(tmp_path / "x.obj", dressed())
    found = read_mesh(tmp_path / "x.obj")
    colors = with_linear_colors(found).colors.at_corners()
    np.testing.assert_allclose(colors, dressed().colors.at_corners(), atol=1e-6)
    np.testing.assert_array_equal(found.material_colors, dressed().material_colors)
    (tmp_path / "q.obj").write_text("v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1 2 3 4\nf 1 2 3\n")
    assert read_mesh(tmp_path / "q.obj").polygons.tolist() == [0, 0, 1]


FBX = """; FBX 7.4.0 project file
FBXHeaderExtension:  {{
  FBXHeaderVersion: 1003
  FBXVersion: 7400
}}
Objects:  {{
  Geometry: 1000, "Geometry::", "Mesh" {{
    Vertices: *12 {{ a: 0,0,0,1,0,0,1,1,0,0,1,0 }}
    PolygonVertexIndex: *4 {{ a: 0,1,2,-4 }}
    LayerElementNormal: 0 {{
      Version: 101
      Name: ""
      MappingInformationType: "ByPolygonVertex"
      ReferenceInformationType: "Direct"
      Normals: *12 {{ a: 0,0,1,0,0,1,0,0,1,0,0,1 }}
    }}
    LayerElementUV: 0 {{
      Version: 101
      Name: "UVMap"
      MappingInformationType: "ByPolygonVertex"
      ReferenceInformationType: "IndexToDirect"
      UV: *8 {{ a: 0,0,1,0,1,1,0,1 }}
      UVIndex: *4 {{ a: 0,1,2,3 }}
    }}
    LayerElementMaterial: 0 {{
      Version: 101
      Name: ""
      MappingInformationType: "AllSame"
      ReferenceInformationType: "IndexToDirect"
      Materials: *1 {{ a: 0 }}
    }}
    Layer: 0 {{
      Version: 100
      LayerElement:  {{
        Type: "LayerElementNormal"
        TypedIndex: 0
      }}
      LayerElement:  {{
        Type: "LayerElementMaterial"
        TypedIndex: 0
      }}
      LayerElement:  {{
        Type: "LayerElementUV"
        TypedIndex: 0
      }}
    }}
  }}
  Model: 2000, "Model::hatch_low", "Mesh" {{
    Version: 232
    Properties70:  {{
      P: "Lcl Translation", "Lcl Translation", "", "A",{x},0,5
    }}
  }}
  Material: 3000, "Material::brass", "" {{
    Version: 102
    ShadingModel: "lambert"
    Properties70:  {{
      P: "DiffuseColor", "Color", "", "A",0.6,0.4,0.1
    }}
  }}
}}
Connections:  {{
  C: "OO",2000,0
  C: "OO",1000,2000
  C: "OO",3000,2000
}}
"""


def test_fbx_keeps_names_places_uvs_and_materials(tmp_path):
    (tmp_path / "x.fbx").write_text(FBX.format(x=3))
    found = read_mesh(tmp_path / "x.fbx")
    assert found.object_names == ("hatch_low",)
    assert found.material_names == ("brass",)
    np.testing.assert_allclose(found.material_colors, [[0.6, 0.4, 0.1]])
    np.testing.assert_allclose(found.bounds, [[3, 0, 5], [4, 1, 5]])
    corners = corner_positions(found)
    np.testing.assert_allclose(found.uvs[0].at_corners(), corners[..., :2] - [3, 0])
    np.testing.assert_allclose(found.normals.at_corners(), np.broadcast_to([0, 0, 1], (2, 3, 3)))
    assert len(found.positions) == 4  # joined as the file has them, and so are they in what it is converted to
    write_mesh(tmp_path / "x.obj", found)
    assert (tmp_path / "x.obj").read_text().count("\nv ") == 4


SETTINGS = """GlobalSettings:  {{
  Properties70:  {{
    P: "UpAxis", "int", "Integer", "",2
    P: "UpAxisSign", "int", "Integer", "",1
    P: "FrontAxis", "int", "Integer", "",1
    P: "FrontAxisSign", "int", "Integer", "",-1
    P: "CoordAxis", "int", "Integer", "",0
    P: "CoordAxisSign", "int", "Integer", "",1
    P: "UnitScaleFactor", "double", "Number", "",2.54
  }}
}}
Objects:"""


def test_fbx_axes_and_unit_are_told_and_nothing_is_turned(tmp_path):
    (tmp_path / "x.fbx").write_text(FBX.replace("Objects:", SETTINGS, 1).format(x=3))
    found = read_mesh(tmp_path / "x.fbx")
    np.testing.assert_allclose(found.bounds, [[3, 0, 5], [4, 1, 5]])
    assert "its up axis is Z and one unit is 2.54 cm" in found.notes[0]


def test_fbx_settings_are_found_in_its_binary_form(tmp_path):
    def text(name):
        return b"S" + struct.pack("<I", len(name)) + name

    for name, value, found in (
        (b"UpAxis", b"I" + struct.pack("<i", 2), "its up axis is Z"),
        (b"UnitScaleFactor", b"D" + struct.pack("<d", 100), "one unit is 100 cm"),
    ):
        head = text(name) + text(b"t") + text(b"l") + text(b"") + value
        (tmp_path / "x.fbx").write_bytes(b"Kaydara FBX Binary  \0" + head)
        assert found in fbx.axes_and_unit(tmp_path / "x.fbx")
    (tmp_path / "x.fbx").write_bytes(text(b"UpAxis") + b"S\xff\xff")
    assert fbx.axes_and_unit(tmp_path / "x.fbx") == ""


@pytest.mark.parametrize("content", [b"", b"Kaydara FBX Binary  \x00\x1a\x00" + b"\xff" * 300, b"; FBX 7.4.0\n{{{{"])
def test_bad_fbx_is_told_and_harms_nobody(content, tmp_path):
    (tmp_path / "bad.fbx").write_bytes(content)
    with pytest.raises(InputProblem, match=r"bad\.fbx"):
        read_mesh(tmp_path / "bad.fbx")


USDA = """#usda 1.0
(
    upAxis = "Y"
)
def Xform "root"
{
    double3 xformOp:translate = (3, 0, 5)
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def Mesh "hatch_low"
    {
        int[] faceVertexCounts = [4, 3]
        int[] faceVertexIndices = [0, 1, 2, 3, 1, 4, 2]
        point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0.5, 0)]
        texCoord2f[] primvars:st = [(0, 0), (1, 0), (1, 1), (0, 1), (2, 0.5)] (
            interpolation = "vertex"
        )
        normal3f[] normals = [(0, 0, 1), (0, 0, 1), (0, 0, 1), (0, 0, 1), (0, 0, 1), (0, 0, 1), (0, 0, 1)] (
            interpolation = "faceVarying"
        )
        def GeomSubset "shiny"
        {
            uniform token elementType = "face"
            int[] indices = [1]
        }
    }
}
"""


def test_usd_keeps_names_places_uvs_polygons_and_subsets(tmp_path):
    (tmp_path / "x.usda").write_text(USDA)
    found = read_mesh(tmp_path / "x.usda")
    assert found.object_names == ("hatch_low",)
    assert [found.material_names[m] for m in found.materials] == ["", "", "shiny"]
    assert found.polygons.tolist() == [0, 0, 1]
    np.testing.assert_allclose(found.uvs[0].at_corners(), corner_positions(found)[..., :2] - [3, 0])
    assert found.normals.complete


OUTSIDE = """#usda 1.0
(
    subLayers = [@below.usda@]
)
def Xform "lid_low" (
    references = @elsewhere.usda@</thing>
)
{
    def Mesh "Mesh" (
        payload = @/etc/payload.usda@
    )
    {
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
        normal3f[] normals = [(1, 0, 0), (1, 0, 0), (1, 0, 0)]
        normal3f[] primvars:normals = [(0, 0, 1), (0, 0, 1), (0, 0, 1)] (
            interpolation = "vertex"
        )
        rel material:binding = </brass>
    }
}
def Mesh "ghost"
{
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = [0, 1, 2]
    point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
    token visibility = "invisible"
}
def Mesh "helper"
{
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = [0, 1, 2]
    point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
    uniform token purpose = "guide"
}
class "_bolt"
{
    def Mesh "bolt_high"
    {
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
    }
}
def Xform "one" (
    instanceable = true
    inherits = </_bolt>
)
{
    double3 xformOp:translate = (7, 0, 0)
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
def Material "brass"
{
    token outputs:surface.connect = </brass/shader.outputs:surface>
    def Shader "shader"
    {
        uniform token info:id = "UsdPreviewSurface"
        color3f inputs:diffuseColor = (0.8, 0.6, 0.1)
        token outputs:surface
    }
}
"""


def test_usd_follows_nothing_outside_and_says_what_it_left_out(tmp_path):
    for name in ("below.usda", "elsewhere.usda"):
        (tmp_path / name).write_text(USDA.replace('Xform "root"', 'Xform "thing"'))
    (tmp_path / "x.usda").write_text(OUTSIDE)
    found = read_mesh(tmp_path / "x.usda")
    assert sorted(found.object_names) == ["bolt_high", "lid_low"]
    assert found.bounds[1].tolist() == [8, 1, 0]  # the instance stands where its node is
    told = " ".join(found.notes)
    for words in (
        "elsewhere.usda",
        "/etc/payload.usda",
        "1 other files",
        "ghost is invisible",
        "helper is there as guide",
    ):
        assert words in told
    lid = found.object_names.index("lid_low")
    own = found.objects == lid
    np.testing.assert_allclose(found.normals.at_corners()[own], np.broadcast_to([0, 0, 1], (1, 3, 3)))
    np.testing.assert_allclose(found.material_colors[found.materials[own]], [[0.8, 0.6, 0.1]])


def test_usd_says_what_to_do_where_it_cannot_be_read(tmp_path, monkeypatch):
    for content, words in ((b"#usda 1.0\n", "no meshes"), (b"PXR-USDC" + b"\xff" * 200, "cannot be read")):
        (tmp_path / "bad.usd").write_bytes(content)
        with pytest.raises(InputProblem, match=words):
            read_mesh(tmp_path / "bad.usd")
    monkeypatch.setattr(usd.importlib.util, "find_spec", lambda name: None)
    with pytest.raises(InputProblem, match=r"pip install inkwell-cast\[usd\]"):
        read_mesh(tmp_path / "bad.usd")


def test_the_packed_form_gives_everything_back(tmp_path):
    mesh = dressed()
    tangents = np.ones((len(mesh.triangles), 3, 4), np.float32)
    polygons = np.arange(len(mesh.triangles), dtype=np.int32) // 2
    mesh = replace(mesh, tangents=values_at_corners(tangents), polygons=polygons)
    write_packed(tmp_path / "x", mesh)
    found = read_packed(tmp_path / "x")
    for name in ("positions", "triangles", "objects", "materials", "material_colors", "polygons"):
        np.testing.assert_array_equal(getattr(found, name), getattr(mesh, name))
    for name in ("normals", "tangents", "colors"):
        np.testing.assert_array_equal(getattr(found, name).at_corners(), getattr(mesh, name).at_corners())
    np.testing.assert_array_equal(found.uvs[0].corners, mesh.uvs[0].corners)
    assert (found.object_names, found.material_names) == (mesh.object_names, mesh.material_names)
