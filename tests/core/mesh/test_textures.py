"""Colours of textures carried over, from files as programs write them, against the texture itself."""

import base64
import json

import cv2
import numpy as np
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.binary_message import read_packed, write_packed

from ...shapes import grid_mesh, plane
from ..bakes import baked, values

SIZE = 32


def ramp():
    """A texture (32, 32, 3) whose red grows to the right and whose green grows downward."""
    steps = np.zeros((SIZE, SIZE, 3), np.uint8)
    steps[..., 0] = np.arange(SIZE)[None, :] * 8
    steps[..., 1] = np.arange(SIZE)[:, None] * 8
    steps[..., 2] = 40
    return steps


def png_of(steps):
    return cv2.imencode(".png", cv2.cvtColor(steps, cv2.COLOR_RGB2BGR))[1].tobytes()


def obj_with(folder, picture, line):
    write_mesh(folder / "a_high.obj", plane(2, 0.1))
    text = (folder / "a_high.obj").read_text().splitlines()
    at = next(n for n, row in enumerate(text) if row.startswith("f "))
    text[at:at] = ["usemtl paper"]
    (folder / "a_high.obj").write_text("mtllib a.mtl\n" + "\n".join(text) + "\n")
    (folder / "a.mtl").write_text(f"newmtl paper\nKd 0.2 0.2 0.2\n{line}\n")
    (folder / "paper ramp.png").write_bytes(picture)
    return folder / "a_high.obj"


def gltf_with(folder, **more):
    """A square of two triangles in z = 0.1 that wears the ramp, as glTF with everything in data URIs."""
    high = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u + 0.1))
    uv = high.uvs[0].values.copy()
    uv[:, 1] = 1 - uv[:, 1]
    blocks = [high.positions.tobytes(), uv.tobytes(), high.triangles.astype("<u2").tobytes()]

    def uri(data, kind="application/octet-stream"):
        return f"data:{kind};base64,{base64.b64encode(data).decode()}"

    kinds = [("VEC3", 5126, 4), ("VEC2", 5126, 4), ("SCALAR", 5123, 6)]
    document = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0, "name": "a_high"}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "TEXCOORD_0": 1}, "indices": 2, "material": 0}]}],
        "accessors": [
            {"bufferView": n, "componentType": c, "count": count, "type": kind}
            for n, (kind, c, count) in enumerate(kinds)
        ],
        "bufferViews": [{"buffer": n, "byteLength": len(block)} for n, block in enumerate(blocks)],
        "buffers": [{"uri": uri(block), "byteLength": len(block)} for block in blocks],
        "images": [{"uri": uri(png_of(ramp()), "image/png")}],
        "textures": [{"source": 0}],
        "materials": [{"name": "paper", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0, **more}}}],
    }
    path = folder / "a.gltf"
    path.write_text(json.dumps(document))
    return path


def carried(path):
    return values(baked(plane(), read_mesh(path), ["color"], size=SIZE), "color") * 255


def assert_is_the_ramp(found, expected=None):
    np.testing.assert_allclose(found[1:-1, 1:-1], (ramp() if expected is None else expected)[1:-1, 1:-1], atol=1.5)


@pytest.mark.parametrize("line", ["map_Kd paper ramp.png", "map_Kd C:\\art\\paper ramp.png"])
def test_an_obj_wears_the_picture_beside_it(tmp_path, line):
    assert_is_the_ramp(carried(obj_with(tmp_path, png_of(ramp()), line)))


def test_a_gltf_wears_its_picture_tinted_moved_and_scaled(tmp_path):
    assert_is_the_ramp(carried(gltf_with(tmp_path)))
    moved = {"extensions": {"KHR_texture_transform": {"offset": [0.25, 0.5]}}}
    shifted = np.roll(ramp(), (-SIZE // 2, -SIZE // 4), axis=(0, 1)).astype(int)
    found = carried(gltf_with(tmp_path, **moved))
    inner = np.s_[2:14, 2:22]  # away from where the picture repeats
    np.testing.assert_allclose(found[inner], shifted[inner], atol=1.5)
    turned = {"extensions": {"KHR_texture_transform": {"rotation": np.pi / 2, "offset": [0, 1]}}}
    found = carried(gltf_with(tmp_path, **turned))
    np.testing.assert_allclose(found[2:-2, 2:-2], np.rot90(ramp(), -1)[2:-2, 2:-2], atol=1.5)


def test_textures_are_kept_with_the_piece_and_missing_ones_leave_the_colour(tmp_path):
    mesh = read_mesh(obj_with(tmp_path, png_of(ramp()), "map_Kd paper ramp.png"))
    write_packed(tmp_path / "kept", mesh)
    kept = read_packed(tmp_path / "kept").textures[mesh.material_names.index("paper")]
    assert (kept.name, kept.channel) == ("paper ramp.png", 0)
    np.testing.assert_array_equal(kept.pixels(), ramp())
    (tmp_path / "paper ramp.png").unlink()
    assert read_mesh(tmp_path / "a_high.obj").textures == (None,) * len(mesh.material_names)


def test_a_damaged_texture_is_told_by_its_name(tmp_path):
    with pytest.raises(InputProblem, match=r"a_high.obj: .*paper ramp.png.* cannot be read .*as PNG or JPEG"):
        read_mesh(obj_with(tmp_path, png_of(ramp())[:200], "map_Kd paper ramp.png"))
