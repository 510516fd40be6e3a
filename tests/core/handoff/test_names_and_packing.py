"""Names of files by their patterns, and maps packed into channels."""

import datetime

import cv2
import numpy as np
import OpenEXR
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff.channel_packing import packed
from inkwell_cast.core.handoff.file_names import LONGEST, Named, file_name, named_all, plain
from inkwell_cast.core.images import SUFFIXES, png, write_picture
from inkwell_cast.core.settings.handoff import Pack, Well

DAY = datetime.date(2031, 5, 6)


def named(word="normal", sheet="", pair="", suffix=".png", what=""):
    return Named(what or word, pair, sheet, sheet or "1001", word, 1024, 512, "8", suffix)


# names


def test_tokens_stand_for_what_they_say_and_empty_ones_leave_no_gap():
    pattern = "{piece}_{pair}_{sheet}_{map}.{tile}_{size}_{depth}-{date}"
    assert file_name(pattern, "Lamp", named(), DAY) == "Lamp_normal.1001_1024x512_8-20310506.png"
    full = file_name(pattern, "Lamp", named(sheet="1002", pair="lid"), DAY)
    assert full == "Lamp_lid_1002_normal.1002_1024x512_8-20310506.png"
    assert file_name("{sheet}_{map}", "Lamp", named(), DAY) == "normal.png"
    assert file_name("{map}", "{date}", named("{piece}"), DAY) == "{piece}.png"  # a value is not read again


@given(st.text(max_size=80))
def test_any_name_becomes_one_that_every_system_takes(text):
    made = plain(text)
    assert made
    assert not set(made) & set('<>:"/\\|?*\x00\n\t ')
    assert made == made.strip(" .")
    assert made.partition(".")[0].lower() not in ("con", "prn", "aux", "nul", "com1", "lpt9")
    assert plain(made) == made


def test_names_that_clash_or_are_too_long_are_refused_by_name():
    with pytest.raises(InputProblem, match=r"NORMAL\.png: Both a and b would be called this"):
        named_all("{map}", "x", [named(what="a"), named("NORMAL", what="b")], DAY)
    with pytest.raises(InputProblem, match=r"name is 2\d\d bytes long"):
        file_name("{piece}_{map}", "ü" * (LONGEST // 2), named(), DAY)
    for pattern, words in (
        ("{piece}", "every map alike"),
        ("{nap}_{map}", "no {nap}"),
        ("{map", "brace"),
        ("{map}}", "brace"),
    ):
        with pytest.raises(InputProblem, match=words):
            named_all(pattern, "x", [named()], DAY)


# packing


def pictures(tmp_path, **values):
    """PNGs of one value each, by map; the picture function of `packed`."""
    for key, value in values.items():
        steps = np.broadcast_to(np.array(value, np.uint16), (4, 6, 3 if np.ndim(value) else 1)).copy()
        png.write(tmp_path / f"{key}.png", steps)
    return lambda key: tmp_path / f"{key}.png" if (tmp_path / f"{key}.png").exists() else None


def test_each_channel_holds_its_map_turned_over_or_a_value(tmp_path):
    read = pictures(tmp_path, occlusion=[65535 // 4], normal=[10000, 20000, 30000])
    pack = Pack(
        red=Well(map="occlusion"),
        green=Well(map="normal", channel="green", invert=True),
        blue=Well(value=0.5),
        alpha=Well(value=0.25, invert=True),
        depth=16,
    )
    made = packed(pack, (6, 4), read)
    assert (made.shape, made.dtype) == ((4, 6, 4), np.uint16)
    np.testing.assert_allclose(made[0, 0], [16383, 65535 - 20000, 32768, 49151], atol=1)
    floats = packed(pack.model_copy(update={"format": "exr", "depth": 32}), (6, 4), read)
    np.testing.assert_allclose(floats[0, 0], [0.25, 1 - 20000 / 65535, 0.5, 0.75], atol=1e-4)


def test_a_map_of_colours_is_turned_to_light_for_a_linear_picture_and_alpha_is_always_linear(tmp_path):
    read = pictures(tmp_path, color=[32768, 32768, 32768], occlusion=[32768])
    pack = Pack(red=Well(map="color"), green=Well(map="occlusion"), alpha=Well(map="color"), depth=16)
    np.testing.assert_allclose(packed(pack, (6, 4), read)[0, 0] / 65535, [0.2140, 0.5, 0, 0.2140], atol=1e-3)
    bright = packed(pack.model_copy(update={"space": "sRGB"}), (6, 4), read)[0, 0] / 65535
    np.testing.assert_allclose(bright, [0.5, 0.7354, 0, 0.2140], atol=1e-3)


def test_a_picture_of_floats_holds_what_the_maps_of_floats_hold(tmp_path):
    slope = np.linspace(-3, 5, 24, dtype=np.float32).reshape(4, 6, 1)
    write_picture(tmp_path / "height.exr", "exr", slope)
    shown = pictures(tmp_path, height=0, occlusion=13107)  # a fifth of 16 bits
    raw = {"height": tmp_path / "height.exr", "occlusion": tmp_path / "occlusion.png"}
    wells = {"red": Well(map="height"), "green": Well(map="height", invert=True), "blue": Well(map="occlusion")}
    exact = packed(Pack(**wells, format="exr", depth=32), (6, 4), shown, raw.get)
    np.testing.assert_array_equal(
        exact, np.concatenate([slope, 1 - slope, np.full((4, 6, 1), np.float32(0.2))], axis=2)
    )
    whole = packed(Pack(**wells, depth=16), (6, 4), shown, raw.get)  # which has no place for what is beyond 1
    assert set(np.unique(whole[..., 0])) == {0}


def test_a_missing_map_is_named(tmp_path):
    with pytest.raises(InputProblem, match=r"“packed”: Its blue takes height, which this bake has not"):
        packed(Pack(blue=Well(map="height")), (6, 4), lambda key: None)


@pytest.mark.parametrize(
    ("name", "depth"), [("png", 8), ("png", 16), ("tga", 8), ("tiff", 16), ("tiff", 32), ("exr", 16)]
)
def test_four_channels_are_written_as_other_libraries_read_them(tmp_path, name, depth):
    made = packed(
        Pack(red=Well(value=1), green=Well(value=0.5), alpha=Well(value=0.25), format=name, depth=depth),
        (5, 3),
        lambda key: None,
    )
    path = tmp_path / f"a{SUFFIXES[name]}"
    write_picture(path, name, made)
    if name == "exr":
        channels = OpenEXR.File(str(path), separate_channels=True).channels()
        found = [float(channels[c].pixels[0, 0]) for c in "RGBA"]
    elif name == "tga":
        found = np.array(Image.open(path))[0, 0] / 255
    else:
        steps = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[0, 0][[2, 1, 0, 3]]
        found = steps / (1 if depth == 32 else 2**depth - 1)
    np.testing.assert_allclose(found, [1, 0.5, 0, 0.25], atol=3e-3)
