"""What glows and what lights: closed forms of form factors, shadows and the furnace, and what is refused."""

from dataclasses import replace

import numpy as np
import pytest
from pydantic import ValidationError

from inkwell_cast.core.bake.cautions import notes_on
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.color_space import to_linear
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.images import write_picture
from inkwell_cast.core.maps.panorama import panorama_of, parted, with_panorama
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.lights_in_words import Glowing, Lamp, glowing_in, lamps_in
from inkwell_cast.core.settings.maps import Emission, Glow, Light
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, grid_mesh, plane
from ..bakes import baked, facts, upside_down, values

EVEN = {"noise": 0.0, "rays": 1024}


def light_of(result, key):
    """A map as linear light (H, W, 3), from its picture and the range beside it; clipped nowhere in these tests."""
    assert facts(result, key)["clipped_share"] < 0.01
    return to_linear(values(result, key).astype(np.float32)) * facts(result, key)["white"]


def disc(radius, height, name="disc", sides=256):
    """A disc about the middle of the unit square, looking down."""

    def point(u, v):
        a = 2 * np.pi * np.where(v == 1, 0, v)
        return 0.5 + radius * u * np.cos(a), 0.5 + radius * u * np.sin(a), np.full_like(u, height)

    return upside_down(grid_mesh(1, sides, point, name))


def ball(radius, centre, name="ball", around=96, across=48):
    def point(u, v):
        a, b = 2 * np.pi * np.where(u == 1, 0, u), np.pi * (v - 0.5)
        x, y, z = centre
        return x + radius * np.cos(b) * np.cos(a), y + radius * np.cos(b) * np.sin(a), z + radius * np.sin(b)

    return grid_mesh(around, across, point, name)


def floor_and(*others):
    return merge(
        [replace(each, uvs=()) for each in (replace(plane(), name="floor", object_names=("floor",)), *others)], "high"
    )


def test_a_disc_that_glows_lights_a_floor_by_its_form_factor():
    """R² / (R² + h²) below its middle; twice the strength, of another colour, is twice the light of that."""
    high = floor_and(disc(0.2, 0.3))
    for strength in (1, 2):
        made = baked(
            plane(),
            high,
            ["glow", "emission"],
            size=33,
            outward=0.05,
            inward=0.05,
            emission=Emission(glowing=f"disc #ff0000 {strength}"),
            glow=Glow(**EVEN, bounces=0),
        )
        light = light_of(made, "glow")
        expected = 0.2**2 / (0.2**2 + 0.3**2)
        assert light[16, 16, 0] == pytest.approx(strength * expected, rel=0.02)
        assert light[..., 1:].max() == 0
        assert light[0, 0, 0] < 0.3 * light[16, 16, 0]


def test_a_ball_beside_a_plane_lights_it_by_its_form_factor():
    """(r / d)² times the cosine of the angle to its middle, from all places that see all of it."""
    centre = np.array([0.5, 0.5, 0.5])
    high = floor_and(ball(0.15, centre))
    made = baked(
        plane(),
        high,
        ["glow"],
        size=32,
        outward=0.05,
        inward=0.05,
        emission=Emission(glowing="ball #ffffff 3"),
        glow=Glow(**EVEN, bounces=0),
    )
    y, x = (np.indices((32, 32)) + 0.5) / 32
    off = np.stack([x, 1 - y, np.zeros_like(x)], -1) - centre
    away = np.linalg.norm(off, axis=-1)
    expected = 3 * (0.15 / away) ** 2 * (0.5 / away)
    light = light_of(made, "glow")[..., 0]
    assert np.abs(light / expected - 1).mean() < 0.05
    assert np.abs(light.mean() / expected.mean() - 1) < 0.01


def test_a_limit_of_distance_and_the_own_pair_alone_leave_light_out():
    near = {"size": 16, "outward": 0.05, "inward": 0.05, "emission": Emission(glowing="disc #ffffff 1")}
    high = floor_and(disc(0.2, 0.3))
    assert light_of(baked(plane(), high, ["glow"], glow=Glow(unit="scene", distance=0.2), **near), "glow").max() == 0
    assert light_of(baked(plane(), high, ["glow"], glow=Glow(unit="scene", distance=2), **near), "glow").max() > 0.1


def test_what_materials_send_is_carried_beyond_one_with_its_picture():
    high = replace(plane(), uvs=(), emission_colors=np.array([[4.0, 1.0, 0.0]], np.float32))
    made = baked(plane(), high, ["emission"], size=16)
    light = light_of(made, "emission")
    np.testing.assert_allclose(light[8, 8], [4, 1, 0], atol=0.01)
    assert facts(made, "emission")["white"] == pytest.approx(4)
    clipped = baked(plane(), high, ["emission"], size=16, emission=Emission(white=2.0))
    assert facts(clipped, "emission")["clipped_share"] == 1


def test_a_convex_white_body_under_an_even_sky_is_white_all_over():
    """The furnace: light is neither lost nor made."""
    body = ball(1.0, (0, 0, 0))
    made = baked(
        body,
        replace(body, uvs=()),
        ["light"],
        size=32,
        outward=0.05,
        inward=0.05,
        light=Light(sun=0, sky=1, **EVEN, bounces=4),
    )
    light = light_of(made, "light")[made.cast.struck > 0]
    np.testing.assert_allclose(light, 1, atol=2e-3)


def bowl():
    """A half ball that looks up and inward."""

    def point(u, v):
        a, b = 2 * np.pi * np.where(u == 1, 0, u), np.pi / 2 * v
        return np.sin(b) * np.cos(a), -np.cos(b), np.sin(b) * np.sin(a)

    return grid_mesh(64, 24, point, "bowl")


def test_a_white_bowl_under_an_even_sky_gets_whiter_with_every_bounce_until_nothing_is_lost():
    """Straight on, every place of a half ball sees half of its surroundings through the opening."""
    high = replace(bowl(), uvs=(), material_colors=np.ones((1, 3), np.float32))
    means = []
    for bounces in (0, 1, 2, 40):
        made = baked(
            bowl(),
            high,
            ["light"],
            size=24,
            outward=0.02,
            inward=0.02,
            light=Light(sun=0, sky=1, noise=0, rays=256, bounces=bounces),
        )
        area = np.sin(np.pi / 2 * (1 - (np.arange(24) + 0.5) / 24))[:, None] * made.cast.struck.astype(float)
        means.append(float((light_of(made, "light")[..., 0] * area).sum() / area.sum()))
    assert means[0] == pytest.approx(0.5, abs=0.01)
    assert means[1] == pytest.approx(0.75, abs=0.01)  # half of what was not sky is lit by half
    assert means[2] == pytest.approx(0.875, abs=0.01)
    assert means[3] == pytest.approx(1.0, abs=0.01)


def test_a_sun_lights_by_its_height_and_what_stands_before_it_casts_a_shadow():
    high = floor_and(cube(0.2, (0.5, 0.5, 0.3)))
    sun = Light(sun=0.8, sun_turn=0, sun_height=0, sun_size=0, sky=0, bounces=0, noise=0, rays=16)
    for turn, expected in ((0.0, 0.8), (60.0, 0.4)):
        made = baked(
            plane(),
            high,
            ["light"],
            size=64,
            outward=0.05,
            inward=0.05,
            light=sun.model_copy(update={"sun_turn": turn}),
        )
        light = light_of(made, "light")[..., 0]
        assert np.percentile(light, 95) == pytest.approx(expected, abs=2e-3)
        assert light.min() == 0
        share = (light < 0.1).mean()
        assert share == pytest.approx(0.04 / np.cos(np.radians(turn)) if turn == 0 else share, abs=0.01)
    soft = baked(
        plane(),
        high,
        ["light"],
        size=64,
        outward=0.05,
        inward=0.05,
        light=sun.model_copy(update={"sun_size": 20, "rays": 64}),
    )
    penumbra = light_of(soft, "light")[..., 0]
    assert ((penumbra > 0.1) & (penumbra < 0.7)).mean() > 0.05


def test_a_lamp_fades_with_the_square_of_its_distance():
    made = baked(
        plane(),
        replace(plane(), uvs=()),
        ["light"],
        size=33,
        outward=0.05,
        inward=0.05,
        light=Light(sun=0, sky=0, bounces=0, lamps="0.5 0.5 0.5 0.2 #00ff00", rays=4),
    )
    light = light_of(made, "light")
    assert light[16, 16, 1] == pytest.approx(0.2 / 0.25, rel=1e-3)
    away = np.sqrt(0.5**2 + 2 * (0.5 - 0.5 / 33) ** 2)
    assert light[0, 0, 1] == pytest.approx(0.2 * 0.5 / away**3, rel=1e-2)
    assert light[..., 0].max() == 0


def test_straight_and_reflected_light_add_up_and_colours_tint_what_is_reflected():
    red = replace(cube(0.4, (0.5, 0.5, 0.2)), material_colors=np.array([[1.0, 0.0, 0.0]], np.float32), uvs=())
    grey = replace(plane(), name="floor", uvs=())
    parts = {}
    for shows in ("all", "direct", "bounced"):
        made = baked(
            plane(),
            merge([grey, red], "high"),
            ["light"],
            size=24,
            outward=0.02,
            inward=0.02,
            light=Light(shows=shows, white=4.0),
        )
        parts[shows] = light_of(made, "light")[made.cast.struck > 0]
    np.testing.assert_allclose(parts["all"], parts["direct"] + parts["bounced"], atol=2e-3)
    assert parts["bounced"][:, 0].mean() > 3 * parts["bounced"][:, 1].mean()
    assert np.ptp(parts["direct"], axis=1).max() < 1e-3


def test_light_falls_on_the_low_s_normals_where_that_is_wanted():
    tilted = replace(
        plane(),
        uvs=(),
        normals=None,
        positions=plane().positions + np.array([0, 0, 0.2], np.float32) * plane().positions[:, :1],
    )
    sun = {"sun": 1, "sun_turn": 0, "sun_height": 0, "sun_size": 0, "sky": 0, "bounces": 0, "rays": 4}
    on = {
        n: light_of(baked(plane(), tilted, ["light"], size=16, light=Light(normals=n, **sun)), "light")[8, 8, 0]
        for n in ("low", "sculpt")
    }
    assert on["low"] == pytest.approx(1, abs=1e-3)
    assert on["sculpt"] == pytest.approx(1 / np.sqrt(1.04), abs=2e-3)


def test_a_panorama_is_looked_up_by_way_and_is_the_same_as_a_sky_of_its_colour(tmp_path):
    even = np.full((8, 16, 3), 0.7, np.float32)
    write_picture(tmp_path / "even.exr", "exr", even)
    front = np.zeros((64, 128, 3), np.float32)
    front[:, 48:80] = 1  # a quarter of the way round, about -z
    write_picture(tmp_path / "front.exr", "exr", front)
    own = Light(sun=0, sky=1, bounces=0, **EVEN, panorama=str(tmp_path / "even.exr"))
    made = baked(plane(), replace(plane(), uvs=()), ["light"], size=16, light=own)
    np.testing.assert_allclose(light_of(made, "light"), 0.7, atol=3e-3)
    behind = own.model_copy(update={"panorama": str(tmp_path / "front.exr")})
    made = baked(plane(), replace(plane(), uvs=()), ["light"], size=16, light=behind)
    assert light_of(made, "light").max() < 0.01  # it looks along z
    back = upside_down(plane())
    low = replace(back, uvs=(replace(plane().uvs[0], corners=plane().uvs[0].corners[:, ::-1].copy()),))
    made = baked(low, replace(back, uvs=()), ["light"], size=16, light=behind)
    assert light_of(made, "light").mean() == pytest.approx(np.sin(np.pi / 4), abs=0.03)


@pytest.mark.parametrize(("row", "column"), [(40, 0), (20, 250), (63, 5)])
def test_a_sun_of_one_pixel_in_a_panorama_is_aimed_at_and_lights_by_its_solid_angle(tmp_path, row, column):
    rows, columns = 128, 256  # the left border is toward +z, over the plane
    picture = np.full((rows, columns, 3), 0.01, np.float32)
    picture[row, column] = (4000, 2000, 1000)
    write_picture(tmp_path / "sun.exr", "exr", picture)
    own = Light(sun=0, sky=1, bounces=0, rays=16, noise=0, panorama=str(tmp_path / "sun.exr"))
    made = baked(plane(), replace(plane(), uvs=()), ["light"], size=16, light=own)
    up = np.cos(np.pi * np.linspace(row, row + 1, 1001) / rows)
    turns = np.linspace(column, column + 1, 1001) / columns
    angle = (up[0] - up[-1]) * 2 * np.pi / columns
    cosine = np.sqrt(1 - up**2).mean() * np.cos(2 * np.pi * turns).mean()
    expected = np.array([4000, 2000, 1000]) * angle * cosine / np.pi + 0.01
    np.testing.assert_allclose(light_of(made, "light").mean(axis=(0, 1)), expected, rtol=0.01)


def test_a_panorama_goes_with_a_recipe_that_leaves_the_machine_and_gives_the_same_bytes(tmp_path):
    picture = np.random.default_rng(1).random((300, 600, 3), np.float32) ** 8 * 30
    write_picture(tmp_path / "sky.exr", "exr", picture)
    light = Light(sun=0, sky=1, bounces=0, rays=8, panorama=str(tmp_path / "sky.exr"))
    here = Recipe(output=Output(maps=["light"]), light=light)
    away = with_panorama(here)
    before = panorama_of(here)
    (tmp_path / "sky.exr").unlink()
    np.testing.assert_array_equal(panorama_of(away), before)
    assert before.shape == (256, 512, 3)
    assert with_panorama(away) == away
    elsewhere = away.model_copy(update={"light": light.model_copy(update={"panorama": "/other.exr"})})
    with pytest.raises(InputProblem, match="no such file"):
        panorama_of(elsewhere)
    with pytest.raises(InputProblem, match="no such file"):
        with_panorama(elsewhere)
    assert with_panorama(elsewhere.model_copy(update={"output": Output()})).carried_panorama == ""
    place = light.panorama
    for stored in ("no base64 at all", "bm8gcGljdHVyZQ==", ""):  # from a piece file that was damaged or made to harm
        for named in (place, ".."):
            hurt = here.model_copy(
                update={
                    "carried_panorama": f"{named}\n{stored}",
                    "light": light.model_copy(update={"panorama": named}),
                }
            )
            with pytest.raises(InputProblem):
                panorama_of(hurt)
    away = with_panorama(away.model_copy(update={"output": Output()}))
    np.testing.assert_array_equal(panorama_of(away), before)


def test_light_beyond_what_a_half_holds_is_clipped_and_said():
    meshes = BakeMeshes([plane()], [replace(plane(), uvs=())])
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.3, inward=0.3),
        sheet=Sheet(width=16, height=16, samples=1, padding=0),
        light=Light(sun=0, sky=1e5, bounces=0, rays=4),
    )
    made = {
        depth: bake(recipe.model_copy(update={"output": Output(maps=["light"], format="exr", depth=depth)}), meshes)
        for depth in (16, 32)
    }
    assert (made[16].sheets[0].exact["light"] == 65504).all()
    assert made[32].sheets[0].exact["light"].min() > 9e4
    assert ["65,504 of a half" in " ".join(notes_on(made[d])) for d in (16, 32)] == [True, False]


def test_the_parts_of_a_panorama_hold_all_its_light():
    picture = np.random.default_rng(2).random((32, 64, 3), np.float32) ** 12 * 100
    even, bright = parted(picture)
    edges = np.cos(np.pi * np.arange(33) / 32)
    angle = ((edges[:-1] - edges[1:]) * 2 * np.pi / 64)[:, None, None]
    aimed = np.diff(bright[:, 0], prepend=0) @ bright[:, 4:] * np.pi
    np.testing.assert_allclose((even * angle).sum(axis=(0, 1)) + aimed, (picture * angle).sum(axis=(0, 1)), rtol=1e-5)
    assert bright[-1, 0] == pytest.approx(1)
    flat, none = parted(np.ones((4, 8, 3), np.float32))
    assert (flat == 1).all()
    assert not len(none)


def test_what_cannot_be_used_is_named_with_what_is_there(tmp_path):
    for words, told in (("disk #ffffff 1", "No material and no object of the sculpt is called disk"),):
        with pytest.raises(InputProblem, match=told) as refused:
            baked(plane(), floor_and(disc(0.2, 0.3)), ["emission"], emission=Emission(glowing=words))
        assert "disc" in str(refused.value)
    for place, told in (("nowhere.exr", "no such file"), ("sky.png", "must be an OpenEXR")):
        with pytest.raises(InputProblem, match=told):
            baked(plane(), replace(plane(), uvs=()), ["light"], light=Light(panorama=str(tmp_path / place)))
    for group, field, words in (
        (Emission, "glowing", "glass 4"),
        (Emission, "glowing", "#ffffff 4"),
        (Emission, "glowing", "glass #ffffff -1"),
        (Light, "lamps", "1 2 3"),
        (Light, "lamps", "a b c 1"),
        (Light, "lamps", "; ".join(["0 0 0 1"] * 65)),
    ):
        with pytest.raises(ValidationError):
            group(**{field: words})
    assert glowing_in("amber glass #ffd9a0 4; ") == [Glowing("amber glass", "#ffd9a0", 4.0)]
    assert lamps_in("0 1.5 0 2; 1 0 0 1 #00ff00") == [Lamp((0, 1.5, 0), 2, "#ffffff"), Lamp((1, 0, 0), 1, "#00ff00")]


def test_a_small_strong_light_is_not_missed_by_texels_that_stop_early():
    """Of 16 rays most meet none of it; a texel that stopped there would be black."""
    high = floor_and(disc(0.06, 0.4))
    own = {"size": 32, "outward": 0.05, "inward": 0.05, "emission": Emission(glowing="disc #ffffff 8")}
    whole, noisy, smooth = (
        light_of(
            baked(plane(), high, ["glow"], glow=Glow(rays=512, bounces=0, noise=noise, denoise=denoise), **own), "glow"
        )[..., 0]
        for noise, denoise in ((0, False), (0.01, False), (0.01, True))
    )
    assert noisy.mean() == pytest.approx(whole.mean(), rel=0.02)
    assert (noisy[12:20, 12:20] < 0.2 * whole[12:20, 12:20].mean()).mean() < 0.02
    assert np.abs(np.diff(smooth, axis=0)).mean() < 0.5 * np.abs(np.diff(noisy, axis=0)).mean()
    assert smooth.mean() == pytest.approx(noisy.mean(), rel=0.1)  # seven texels are a lot of 32
