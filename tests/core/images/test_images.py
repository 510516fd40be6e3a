"""Pictures of every format read back, by this program and by another library."""

import io
import json
import pathlib
import shutil
import subprocess
import zipfile
from dataclasses import replace
from xml.etree import ElementTree

import cv2
import numpy as np
import OpenEXR
import pytest
import tifffile
from PIL import Image
from pydantic import ValidationError

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.images import SUFFIXES, openraster, png, psd, read_picture, write_picture
from inkwell_cast.core.images.layer_stack import PictureLayer, Stack
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Ids
from inkwell_cast.core.settings.output import DEPTHS, Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import grid_mesh, plane

TESTS = pathlib.Path(__file__).parents[2]
KINDS = {8: np.uint8, 16: np.uint16, 32: np.float32}


def picture(kind, channels):
    rng = np.random.default_rng(3)
    values = rng.random((37, 53, channels))
    return (values * (np.iinfo(kind).max if np.dtype(kind).kind == "u" else 1)).astype(kind)


@pytest.mark.parametrize("channels", [1, 3])
@pytest.mark.parametrize(("name", "depth"), [(n, d) for n, depths in DEPTHS.items() for d in depths])
def test_a_picture_is_read_back_as_it_was_written(tmp_path, name, depth, channels):
    kind = np.float16 if (name, depth) == ("exr", 16) else KINDS[depth]
    written, path = picture(kind, channels), tmp_path / f"a{SUFFIXES[name]}"
    write_picture(path, name, written)
    found = read_picture(path)
    expected = np.repeat(written, 3, axis=2) if channels == 1 else written
    if name == "jpeg":
        assert np.abs(found.astype(int) - expected).mean() < 30
    else:
        np.testing.assert_array_equal(found, expected)


def test_other_libraries_read_the_same(tmp_path):
    wide, floats = picture(np.uint16, 3), picture(np.float32, 3)
    write_picture(tmp_path / "a.tif", "tiff", wide)
    np.testing.assert_array_equal(cv2.imread(str(tmp_path / "a.tif"), cv2.IMREAD_UNCHANGED)[..., ::-1], wide)
    write_picture(tmp_path / "b.tif", "tiff", floats)
    np.testing.assert_array_equal(cv2.imread(str(tmp_path / "b.tif"), cv2.IMREAD_UNCHANGED)[..., ::-1], floats)
    write_picture(tmp_path / "a.tga", "tga", picture(np.uint8, 1))
    assert Image.open(tmp_path / "a.tga").mode == "L"
    write_picture(tmp_path / "a.exr", "exr", picture(np.float16, 1))
    assert set(OpenEXR.File(str(tmp_path / "a.exr"), separate_channels=True).channels()) == {"Y"}


@pytest.mark.parametrize("name", ["a.tif", "a.exr", "a.tga", "a.jpg", "a.png"])
def test_a_damaged_picture_is_refused_by_name(tmp_path, name):
    (tmp_path / name).write_bytes(b"nothing of the kind")
    with pytest.raises(InputProblem, match=name):
        read_picture(tmp_path / name)
    with pytest.raises(InputProblem, match="cannot be read"):
        read_picture(tmp_path / "a.gif")


@pytest.mark.deep
def test_float_formats_hold_scene_units_and_the_views_a_preview(tmp_path):
    step = grid_mesh(400, 2, lambda u, v: (u, v, np.where(u < 0.5, 0.25, -0.15)), "high")
    for name, depth in (("exr", 32), ("exr", 16), ("tiff", 32)):
        recipe = Recipe(
            reach=Reach(unit="scene", outward=0.3, inward=0.3),
            sheet=Sheet(width=64, height=64, samples=1),
            output=Output(maps=["height", "normal"], format=name, depth=depth),
        )
        result = bake(recipe, BakeMeshes([plane()], [step]))
        manifest = save(result, tmp_path, previews=tmp_path)
        height = read_picture(tmp_path / manifest.maps[0].file)[..., 0]
        assert (height[30, 2], height[30, 60]) == pytest.approx((0.25, -0.15), rel=1e-3 if depth == 16 else 1e-6)
        assert (tmp_path / manifest.maps[0].preview).is_file()
        assert manifest.maps[1].likeness.mean < 0.05
    assert tifffile.imread(tmp_path / "height.tif").dtype == np.float32


def test_a_depth_that_a_format_has_not_is_refused():
    with pytest.raises(ValidationError, match="JPEG has no 16 bits; choose 8"):
        Output(format="jpeg", depth=16)


def stacked(colored, below):
    """A folder of one masked layer over an ID map."""
    return [Stack("Colour", [PictureLayer("oak & brass, 真鍮", lambda: colored)]), PictureLayer("ID", lambda: below)]


def test_an_openraster_file_holds_its_layers_in_folders(tmp_path):
    """Read as its standard says: the type first and plain, a tree of stacks, a picture for each layer."""
    red, part = np.zeros((20, 30, 4), np.uint8), np.full((20, 30, 3), 90, np.uint8)
    red[:, :10] = 255, 0, 0, 255
    openraster.write(tmp_path / "a.ora", stacked(red, part))
    with zipfile.ZipFile(tmp_path / "a.ora") as archive:
        first = archive.infolist()[0]
        assert (first.filename, first.compress_type) == ("mimetype", zipfile.ZIP_STORED)
        assert archive.read("mimetype") == b"image/openraster"
        root = ElementTree.fromstring(archive.read("stack.xml"))
        assert (root.get("w"), root.get("h")) == ("30", "20")
        folder, below = root.find("stack")
        assert (folder.tag, folder.get("name"), below.tag, below.get("name")) == ("stack", "Colour", "layer", "ID")
        layer = folder.find("layer")
        assert layer.get("name") == "oak & brass, 真鍮"
        picture = np.array(Image.open(io.BytesIO(archive.read(layer.get("src")))))
        np.testing.assert_array_equal(picture, red)
        merged = np.array(Image.open(io.BytesIO(archive.read("mergedimage.png"))))
        assert merged[5, 5].tolist() == [255, 0, 0, 255]
        assert merged[5, 20].tolist() == [90, 90, 90, 255]
        assert Image.open(io.BytesIO(archive.read("Thumbnails/thumbnail.png"))).size == (30, 20)


def read_psd(path):
    """What an independent reader finds in a PSD, from the bottom up: names, folders, middle pixels and masks."""
    out = path.with_suffix(".json")
    node = shutil.which("node") or "node"
    subprocess.run([node, TESTS / "psd_oracle.js", path, out], check=True, cwd=TESTS)
    return json.loads(out.read_text())


def test_a_psd_holds_its_layers_in_folders_with_masks(tmp_path):
    red, part = np.zeros((20, 30, 4), np.uint8), np.full((20, 30, 3), 90, np.uint8)
    red[...] = 255, 0, 0, 0
    red[:, :10, 3] = 255
    psd.write(tmp_path / "a.psd", stacked(red, part))
    found = read_psd(tmp_path / "a.psd")
    assert (found["width"], found["height"]) == (30, 20)
    below, folder = found["children"]
    assert (below["name"], below["pixels"][5 * 30 + 5]) == ("ID", [90, 90, 90, 255])
    assert folder["name"] == "Colour"
    (layer,) = folder["children"]
    assert layer["name"] == "oak & brass, 真鍮"
    assert layer["pixels"][0] == [255, 0, 0, 255]
    assert layer["mask"][:30] == [255] * 10 + [0] * 20
    seen = np.array(Image.open(tmp_path / "a.psd"))  # the merged picture, for programs that know no layers
    assert (seen[5, 5].tolist(), seen[5, 20].tolist()) == ([255, 0, 0], [90, 90, 90])


@pytest.mark.deep
def test_a_bake_writes_a_layer_for_each_material(tmp_path):
    left = grid_mesh(1, 1, lambda u, v: (0.4 * u, v, 0.1 + 0 * u))
    right = grid_mesh(1, 1, lambda u, v: (0.4 + 0.6 * u, v, 0.1 + 0 * u))
    high = merge([left, right], "high")
    high = replace(
        high, material_names=("oak", "brass"), uvs=(), material_colors=np.array([[1, 0, 0], [0, 0, 1]], np.float32)
    )
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.3),
        sheet=Sheet(width=40, height=40),
        output=Output(maps=["ids"], depth=16),
        ids=Ids(layers=True, psd=True),
    )
    manifest = save(bake(recipe, BakeMeshes([plane()], [high])), tmp_path, previews=tmp_path)
    made = next(m for m in manifest.maps if m.key == "layers.ora")
    with zipfile.ZipFile(tmp_path / made.file) as archive:
        folder = ElementTree.fromstring(archive.read("stack.xml")).find("stack/stack")
        pictures = {
            layer.get("name"): np.array(Image.open(io.BytesIO(archive.read(layer.get("src")))))
            for layer in folder.findall("layer")
        }
    assert pictures["oak"][20, 4].tolist() == [255, 0, 0, 255]
    assert pictures["oak"][20, 30, 3] == 0
    assert pictures["brass"][20, 30].tolist() == [0, 0, 255, 255]
    assert (tmp_path / made.preview).is_file()
    other = next(m for m in manifest.maps if m.key == "layers.psd")
    assert [layer["name"] for layer in read_psd(tmp_path / other.file)["children"][1]["children"]] == ["brass", "oak"]


def test_dither_is_right_in_the_mean_of_every_square_and_never_more_than_a_step_off():
    """Rounding stays half a step off in places; chance would leave 0.04 of a step in squares of 64 texels."""
    ramp = np.broadcast_to(np.linspace(100, 104, 256)[:, None, None] / 255, (256, 256, 2)).astype(np.float32)
    steps = png.quantise(ramp, 8, dither=True).astype(float)
    exact = ramp.astype(float) * 255
    assert np.abs(steps - exact).max() < 1
    square = (steps - exact).reshape(32, 8, 32, 8, 2).mean(axis=(1, 3))
    assert np.abs(square).max() < 0.06
    assert square.std() < 0.015
    plain = (png.quantise(ramp, 8).astype(float) - exact).reshape(32, 8, 32, 8, 2).mean(axis=(1, 3))
    assert plain.std() > 10 * square.std()
    error = steps - exact
    assert np.corrcoef(error[..., 0].ravel(), error[..., 1].ravel())[0, 1] < 0.9  # channels part
    assert (png.quantise(np.full((8, 8, 1), 100 / 255, np.float32), 8, dither=True) == 100).all()
