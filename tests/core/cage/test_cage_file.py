"""Cage meshes from file in their three forms: point to point, through their surface, limiting length only."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.cage.cage import build_cage, rays_of
from inkwell_cast.core.cage.coverage import coverage
from inkwell_cast.core.cage.inverse_rays import located_of
from inkwell_cast.core.checks import check
from inkwell_cast.core.mesh.mesh import Mesh, merge
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.rays.modifiers.foreign_cage import COARSEST, cells_of
from inkwell_cast.core.rays.ray import reach_at
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, grid_mesh, plane, torus

LOOP = 0.45
BOSS, HIGH, RADIUS = np.array([0.2, 0.15]), 0.1, 0.12


def named(mesh: Mesh, name: str) -> Mesh:
    return replace(mesh, name=name, object_names=(name,))


def looped_cube() -> Mesh:
    """A unit cube with an edge loop near every edge."""
    at = np.array([-0.5, -LOOP, LOOP, 0.5])
    faces = []
    for axis in range(3):
        for sign in (-1, 1):

            def point(u, v, axis=axis, sign=sign):
                i, j = np.rint(u * 3).astype(int), np.rint(v * 3).astype(int)
                flat = (at[i], at[j]) if sign > 0 else (at[j], at[i])
                found = [None] * 3
                found[axis], found[(axis + 1) % 3], found[(axis + 2) % 3] = np.full_like(u, sign / 2), *flat
                return found

            faces.append(replace(grid_mesh(3, 3, point), uvs=()))
    return named(merge(faces, "box"), "box_cage")


def bossed_cube() -> Mesh:
    """A cube with a round boss standing on its upper face."""
    disc = grid_mesh(
        40,
        1,
        lambda u, v: (
            BOSS[0] + RADIUS * v * np.cos(u * 2 * np.pi),
            BOSS[1] + RADIUS * v * np.sin(u * 2 * np.pi),
            np.full_like(u, 0.5 + HIGH),
        ),
    )
    disc = replace(disc, triangles=disc.triangles[:, ::-1].copy(), uvs=())
    body = replace(cube(), uvs=(), normals=None)
    return named(merge([body, replace(disc, normals=None)], "box"), "box_high")


def outline(cage: Mesh | None) -> np.ndarray:
    """Where texels that see the boss lie on the upper face: mean x and y, and the radius that their area gives."""
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.2, inward=0.05),
        sheet=Sheet(width=512, height=512, samples=4),
        output=Output(maps=["normal_object"]),
    )
    named_meshes = [named(cube(), "box_low"), bossed_cube()] + ([cage] if cage else [])
    cast = bake(recipe, BakeMeshes([], [], named_meshes)).cast
    y, x = np.nonzero((cast.height > HIGH * 0.7) & (cast.struck > 0))
    u, v = (x + 0.5) / 512, 1 - (y + 0.5) / 512
    # the upper face is the third of the cube's: its UVs run 0.28 wide from (2/3 + 0.02, 0.02), x along U
    places = (np.stack([u, v], 1) - (2 / 3 + 0.02, 0.02)) / 0.28 - 0.5
    radius = np.sqrt(len(x) / (512 * 0.28) ** 2 / np.pi)
    return np.array([*places.mean(axis=0), radius])


def test_extra_edge_loops_straighten_a_detail_on_a_side():
    texel = 1 / (512 * 0.28)
    leaning, straight = outline(None), outline(looped_cube())
    lean = 1 + 2 * HIGH  # averaged rays of a cube lean as (2x, 2y, 1)
    np.testing.assert_allclose(leaning[:2], BOSS / lean, atol=texel)
    assert np.linalg.norm(leaning[:2] - BOSS) > 5 * texel
    assert np.linalg.norm(straight[:2] - BOSS) < 0.5 * texel
    assert straight[2] == pytest.approx(RADIUS, abs=0.5 * texel)


def reach_with(cage: Mesh, places, outward=0.05):
    """Offsets from a unit square to where rays start, and the cage's form."""
    recipe = Recipe(reach=Reach(unit="scene", outward=outward, inward=0.1))
    meshes = [named(plane(1), "tile_low"), named(plane(1, 0.02), "tile_high"), named(cage, "tile_cage")]
    assembly = assemble(recipe, BakeMeshes([], [], meshes))
    built = build_cage(assembly)
    places = np.asarray(places, float)
    u, v = places.T  # the square's triangles are 0 0, 1 0, 1 1 and 0 0, 1 1, 0 1
    below = v <= u
    rows = np.where(below, 0, 1)
    b1, b2 = np.where(below, u - v, u), np.where(below, v, v - u)
    return reach_at(rays_of(assembly, built), rows, np.stack([1 - b1 - b2, b1, b2], 1)), built


SOME = [(0.1, 0.2), (0.5, 0.5), (0.63, 0.21), (0.2, 0.9)]


def test_the_same_faces_set_every_ray_point_to_point_and_the_state_says_so():
    found, cage = reach_with(plane(1, 0.3), SOME)
    np.testing.assert_allclose(found, np.tile([0, 0, 0.3], (4, 1)), atol=1e-6)
    form = cage.forms[0]
    assert (form.pair, form.form, form.vertices, form.faces) == ("tile", "points", (4, 4), (2, 2))
    assert form.apart == pytest.approx(0.3)
    assert "Point to point" in form.words
    assert "0.3" in form.words
    assert form.pair == "tile"


def test_another_topology_gives_rays_through_its_nearest_point():
    found, cage = reach_with(plane(5, 0.3), SOME)
    np.testing.assert_allclose(found, np.tile([0, 0, 0.3], (4, 1)), atol=1e-6)
    form = cage.forms[0]
    assert (form.form, form.share) == ("surface", 1.0)
    assert form.faces == (2, 50)
    assert "Through its surface" in form.words


def test_a_slanted_cage_turns_rays_toward_it():
    slant = grid_mesh(6, 6, lambda u, v: (1.6 * u - 0.3, 1.6 * v - 0.3, 0.3 + 0.5 * (1.6 * u - 0.3)))
    found, _ = reach_with(slant, SOME)
    x = np.array(SOME)[:, 0]
    away = (0.3 + 0.5 * x) / np.sqrt(1.25)  # of a point from the plane z = 0.3 + x / 2
    np.testing.assert_allclose(found, away[:, None] * np.array([-0.5, 0, 1]) / np.sqrt(1.25), atol=1e-5)


def test_a_cage_on_the_low_gives_directions_and_the_reach_gives_length():
    found, cage = reach_with(plane(5), SOME, outward=0.07)
    np.testing.assert_allclose(found, np.tile([0, 0, 0.07], (4, 1)), atol=1e-6)
    assert cage.forms[0].form == "surface"


def test_a_cage_that_agrees_nowhere_limits_length_only():
    away = plane(5, 0.3)
    away = replace(away, triangles=away.triangles[:, ::-1].copy())
    found, cage = reach_with(away, SOME)
    np.testing.assert_allclose(found, np.tile([0, 0, 0.3], (4, 1)), atol=1e-6)
    assert cage.forms[0].form == "length"
    assert "Limits length only" in cage.forms[0].words


def test_where_the_nearest_point_would_jump_only_length_is_limited_and_the_place_told():
    left = grid_mesh(8, 8, lambda u, v: (0.5 * u, v, np.full_like(u, 0.1)))
    right = grid_mesh(8, 8, lambda u, v: (0.5 + 0.5 * u, v, np.full_like(u, 0.3)))
    jump = 0.5 + np.sqrt(0.3**2 - 0.1**2)  # from here on the right half is nearer than the left one's edge
    found, cage = reach_with(merge([left, right], "cage"), [(0.3, 0.5), (jump, 0.5), (0.95, 0.5)])
    np.testing.assert_allclose(found, [[0, 0, 0.1], [0, 0, 0.3], [0, 0, 0.3]], atol=1e-6)
    form = cage.forms[0]
    assert 0.5 < form.share < 1
    assert np.abs(form.limited[:, 0] - jump).max() < 0.15
    assert "only limits the length" in form.words


def test_a_round_cage_of_other_density_bakes_like_the_reach_it_stands_for():
    low, high = named(torus(24, 12), "ring_low"), named(torus(120, 60), "ring_high")
    cage = named(torus(60, 30, small=0.85), "ring_cage")
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.15, inward=0.15),
        sheet=Sheet(width=128, height=128, samples=1),
        output=Output(maps=["normal_object"]),
    )
    plain, caged = (bake(recipe, BakeMeshes([], [], [low, high, *more])) for more in ([], [cage]))
    assert [f.pair for f in caged.cage.forms] == ["ring"]
    assert caged.cast.missed == 0
    a, b = (r.cast.normal / np.linalg.norm(r.cast.normal, axis=2, keepdims=True) for r in (plain, caged))
    angle = np.degrees(np.arccos(np.clip((a * b).sum(axis=2), -1, 1)))
    assert np.median(angle) < 1


# a cage is judged before it is believed


def judged(cage: Mesh, low=None):
    """Verdict and coverage of a ring's cage."""
    low = low or named(torus(24, 12), "ring_low")
    high = named(torus(96, 48, small=0.72), "ring_high")
    warm = Warm()
    given = BakeMeshes([], [], [low, high, named(cage, "ring_cage")])
    assembly = assemble(Recipe(reach=Reach(unit="scene", outward=0.1, inward=0.1)), given, warm)
    made = build_cage(assembly)
    found = coverage(assembly, warm.sculpt(assembly), made, located_of(assembly, warm))
    titles = {f.title: f.severity for f in check(assembly.given, given) if f.check == "cages"}
    return found, titles


def test_a_cage_that_holds_the_sculpt_is_believed():
    found, titles = judged(torus(24, 12, small=0.8))
    assert found.all_well
    assert titles == {}


@pytest.mark.parametrize(
    ("cage", "words"),
    [
        (torus(24, 12, small=0.5), "lies inside the low"),
        (
            replace(torus(24, 12, small=0.8), positions=torus(24, 12, small=0.8).positions + np.float32([9, 0, 0])),
            "off",
        ),
        (replace(torus(24, 12), positions=torus(24, 12).positions * np.float32(3)), "farther off than half"),
        (torus(20, 10, 0.02, 0.01), "made for another mesh"),
    ],
    ids=["shrunk", "moved", "three times", "tiny"],
)
def test_a_cage_that_cannot_be_meant_is_told(cage, words):
    found, titles = judged(cage)
    assert words in found.verdicts[0].words
    assert not found.all_well
    assert titles["Cage does not fit its low"] in ("warning", "blocking")
    if words == "lies inside the low":  # it seemed to hold everything, since no ray came near the sculpt
        assert found.held < 0.9
        assert titles["Cage does not fit its low"] == "blocking"


def test_the_low_is_cut_as_finely_as_the_way_to_its_cage_asks_for():
    low = torus(24, 12)
    points = low.positions[low.triangles]
    ways = np.broadcast_to(np.float32([0, 0, 1]), points.shape).copy()

    def cells(cage):
        corners = cage.positions[cage.triangles]
        return len(cells_of(points, ways, corners, np.ones_like(corners)).owner)

    near, far = torus(80, 40, small=0.75), torus(20, 10, 0.02, 0.01)  # the second a speck in the hole of the ring
    coarsest = COARSEST**2 * len(points)
    assert cells(near) > 1.5 * coarsest
    assert cells(far) == coarsest


def test_a_cage_with_triangles_of_no_area_is_told():
    flat = torus(20, 10, small=0.8)
    triangles = flat.triangles.copy()
    triangles[7, 1] = triangles[7, 0]
    cage = named(replace(flat, triangles=triangles, uvs=(), normals=None), "ring_cage")
    given = BakeMeshes([], [], [named(torus(24, 12), "ring_low"), named(torus(96, 48, small=0.72), "ring_high"), cage])
    with pytest.raises(InputProblem, match="ring_cage: 1 triangles of the cage have no area"):
        build_cage(assemble(Recipe(), given))
    assert any(f.severity == "blocking" and f.check == "cages" for f in check(Recipe(), given))
