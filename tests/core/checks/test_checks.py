"""Each check: a mesh that shows what it looks for, and one that does not."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import Cancelled
from inkwell_cast.core.checks import REGISTRY, check, findings_of, winding
from inkwell_cast.core.checks.apply_remedy import apply
from inkwell_cast.core.checks.not_triangulated import tied_quads
from inkwell_cast.core.mesh.fixes import flip_winding, treated
from inkwell_cast.core.mesh.mesh import CornerValues, Mesh, corner_positions, merge, subset, values_at_corners
from inkwell_cast.core.mesh.normals import face_normals, with_normals
from inkwell_cast.core.mesh.transforms import turned_over
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings import editing
from inkwell_cast.core.settings.item_keys import item_keys
from inkwell_cast.core.settings.maps import Subdivision
from inkwell_cast.core.settings.pairing import Pairing
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.demo import inkstand, troubled
from inkwell_cast.demo.pieces import pieces

from ...shapes import cube, grid_mesh, plane, torus
from .rings import found, ring, turned, with_shells


def test_another_reach_asks_only_the_checks_that_follow_it(monkeypatch):
    asked, warm = list[str](), Warm()
    for key, module in REGISTRY.items():
        monkeypatch.setattr(module, "find", lambda piece, key=key: asked.append(key) or iter(()))
    meshes = BakeMeshes([ring()], [ring(96, "ring_high")])
    for outward, keys in ((1.0, list(REGISTRY)), (1.0, []), (2.0, ["stray"])):
        asked.clear()
        check(Recipe(reach=Reach(outward=outward)), meshes, warm)
        assert asked == keys
    findings_of(assemble(Recipe(reach=Reach(outward=3.0)), meshes, warm), warm, keys=["winding"])
    assert asked == ["stray"]  # known, and no other is asked


def test_a_good_pair_has_nothing_to_object_to():
    assert found() == {}


def with_uvs(mesh, change):
    uvs = mesh.uvs[0].at_corners()
    return replace(mesh, uvs=(values_at_corners(change(uvs)),))


def flat_shaded(mesh):
    normals = np.repeat(face_normals(mesh.positions, mesh.triangles)[:, None], 3, axis=1)
    return replace(mesh, normals=values_at_corners(normals))


def folded(uvs):
    """The corners at one vertex pushed across the far edge of a triangle."""
    corner = uvs[200, 0].copy()
    uvs[(uvs == corner).all(axis=2)] = corner + 1.5 * (uvs[200, 1:].mean(axis=0) - corner)
    return uvs


def squashed(uvs):
    uvs[40] = uvs[40, :1]
    return uvs


def slid(uvs):
    """Half of the triangles onto the other half."""
    uvs[:] = uvs * 0.5
    half = len(uvs) // 2
    uvs[half:] = uvs[:half] + 0.03
    return uvs


def cracked(mesh):
    """One row of vertices doubled and moved by a hair."""
    out = subset(mesh, np.arange(len(mesh.triangles)) > -1)
    corner = mesh.positions[mesh.triangles]
    positions = corner.reshape(-1, 3).copy()
    triangles = np.arange(len(positions), dtype=np.int32).reshape(-1, 3)
    positions[triangles[:30]] += 2e-6
    return replace(out, positions=positions, triangles=triangles, normals=None, uvs=())


def polygonal(mesh):
    return replace(mesh, polygons=np.arange(len(mesh.triangles), dtype=np.int32) // 2)


def fan():
    """Three squares on one edge."""
    points = np.array([[0, 0, 0], [0, 0, 1], [1, 0, 0], [0, 1, 0], [-1, 0, 0]], np.float32)
    return Mesh("fan_high", points, np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]], np.int32))


CASES = {
    "uvs": (ring(uvs=()), None),
    "winding": (None, turned(ring(96, "ring_high"))),
    "place": (None, replace(ring(96, "ring_high"), positions=ring(96).positions * np.float32(100))),
    "stray": (replace(ring(), positions=ring().positions * np.array([1, 1, 1.8], np.float32)), None),
    "overlaps": (with_uvs(ring(), slid), None),
    "tiles": (with_uvs(ring(), lambda uv: uv + np.float32(1)), None),
    "uv_area": (with_uvs(ring(), folded), None),
    "hard_edges": (flat_shaded(ring()), None),
    "faceted": (None, flat_shaded(ring(96, "ring_high"))),
    "doubles": (None, cracked(ring(96, "ring_high"))),
    "borders": (None, subset(ring(96, "ring_high"), np.arange(96 * 96) > 5)),
    "polygons": (polygonal(ring()), None),
    "pairs": (None, ring(96, "rnig_high")),
    "stretch": (with_uvs(ring(), lambda uv: uv * np.array([0.1, 1], np.float32)), None),
    "lacking": (None, with_shells(ring(96, "ring_high"), (0, 0, 1.0), (0, 0.2, 1.2))),
    "numbers": (None, replace(ring(96, "ring_high"), positions=ring(96).positions + np.float32(np.nan))),
}


@pytest.mark.parametrize("key", CASES)
def test_each_trouble_is_found_with_its_place_and_remedy(key):
    finding = found(*CASES[key])[key]
    assert finding.what
    assert finding.remedy
    assert finding.count > 0
    assert key in REGISTRY
    if key not in ("numbers", "pairs", "place"):
        centre, radius = finding.place
        assert np.isfinite(centre).all()
        assert radius > 0


def test_flat_uvs_are_told_apart_from_folded_ones():
    assert found(with_uvs(ring(), squashed))["uv_area"].title == "UVs without area"
    assert found(with_uvs(ring(), folded))["uv_area"].title == "Folded UVs"
    mirrored = found(with_uvs(ring(), lambda uv: uv * np.array([-1, 1], np.float32) + np.array([1, 0], np.float32)))
    assert (mirrored["uv_area"].severity, mirrored["uv_area"].title) == ("note", "Mirrored islands")


def test_islands_that_coincide_are_a_note_and_across_tiles_too():
    other = replace(ring(name="twin_low"), object_names=("twin_low",))
    both = merge([ring(), with_uvs(other, lambda uv: uv + np.array([1, 0], np.float32))], "rings.glb")
    highs = merge([ring(96, "ring_high"), ring(96, "twin_high")], "sculpts.glb")
    notes = found(both, highs)
    assert notes["overlaps"].title == "Shared places"
    assert notes["tiles"].severity == "note"
    by_tile = found(both, highs, Recipe(sheet=Sheet(split="tile")))
    assert "overlaps" not in by_tile
    assert "tiles" not in by_tile


def test_edges_of_three_faces_and_neighbours_wound_against_each_other():
    low = replace(plane(name="fan_low"), object_names=("fan_low",))
    assert found(low, fan())["non_manifold"].count == 1
    mixed = found(None, turned(ring(96, "ring_high"), slice(0, 9)))["winding"]
    assert mixed.title == "Inconsistent winding"


def test_a_cage_must_have_the_low_s_faces():
    good = replace(ring(name="ring_cage"), positions=torus(24, 12, small=0.76).positions)
    assert "cages" not in found(others=[good])
    bad = found(others=[subset(good, np.arange(576) > 1)])["cages"]
    assert bad.severity == "note"
    assert "574 triangles, low 288 and 576" in bad.what
    away = replace(good, triangles=good.triangles[2:, ::-1].copy(), normals=None)
    assert found(others=[away])["cages"].severity == "warning"


def test_uneven_density_names_the_island():
    big = replace(cube(name="box_low"), object_names=("box_low",))
    uvs = big.uvs[0].at_corners()
    uvs[:2] = (uvs[:2] - uvs[:2].mean(axis=(0, 1))) * 0.15 + uvs[:2].mean(axis=(0, 1))
    density = found(replace(big, uvs=(values_at_corners(uvs),)), cube(name="box_high"))["density"]
    assert "times coarser" in density.what
    assert len(density.marks.corners) == 2


def test_nothing_paired_is_blocking_and_can_be_made_one_pair():
    meshes = BakeMeshes([], [], [ring(), ring(96, "sculpt_high")])
    worst = check(Recipe(), meshes)[0]
    assert (worst.severity, worst.title) == ("blocking", "Nothing is paired")
    assert [f for f in check(apply(Recipe(), worst.fix), meshes) if f.severity == "blocking"] == []
    only = check(Recipe(), BakeMeshes([], [], [ring()]))[0]
    assert only.title == "No high"
    assert check(apply(Recipe(), only.fix), BakeMeshes([], [], [ring()])) == []


@pytest.mark.parametrize(
    "key",
    [
        k
        for k, case in CASES.items()
        if k in ("winding", "place", "tiles", "hard_edges", "faceted", "doubles", "lacking")
    ],
)
def test_a_fix_removes_its_finding_and_leaves_the_mesh_of_the_user(key):
    low, high = CASES[key]
    low, high = low or ring(), high or ring(96, "ring_high")
    before = [mesh.positions.tobytes() + mesh.triangles.tobytes() for mesh in (low, high)]
    fixed = apply(Recipe(), found(low, high)[key].fix)
    assert key not in found(low, high, fixed)
    assert [mesh.positions.tobytes() + mesh.triangles.tobytes() for mesh in (low, high)] == before
    name = next(iter(fixed.files))
    undone = editing.set_file(fixed, name, scale=1.0, move=(0, 0, 0))
    for own in item_keys(fixed.file(name).fixes):
        undone = editing.without_fix(undone, name, own)
    assert key in found(low, high, undone)


@pytest.mark.parametrize("side", ["low", "high"])
def test_a_plane_that_looks_away_is_turned_over_with_one_click(side):
    low = replace(plane(2, name="sheet_low"), object_names=("sheet_low",))
    high = replace(plane(20, 0.01, name="sheet_high"), object_names=("sheet_high",), uvs=())
    if side == "low":  # its normals say which way it was meant
        up = np.broadcast_to(np.array([0, 0, 1], np.float32), (len(low.triangles), 3, 3))
        low = turned_over(replace(low, normals=values_at_corners(up)))
    else:
        high = turned(high, slice(None))
    finding = found(low, high)["winding"]
    assert finding.part == f"sheet_{side}/sheet_{side}"
    fixed = apply(Recipe(), finding.fix)
    assert "winding" not in found(low, high, fixed)
    made = bake(
        fixed.model_copy(update={"sheet": Sheet(width=16, height=16, samples=1)}), BakeMeshes([], [], [low, high])
    )
    assert made.cast.missed == 0
    assert made.images["normal"][8, 8, 2] > 250  # straight up, and not inside out


def test_one_shell_of_two_is_turned_over_alone():
    balls = [replace(torus(24, 12, name="a"), uvs=()), replace(torus(24, 12, 6.0, 0.7, name="b"), uvs=())]
    balls[1] = turned(balls[1], slice(None))
    high = merge(balls, "ring_high")
    high = replace(high, object_names=("ring_high",), objects=np.zeros(len(high.triangles), np.int32))
    low = merge([ring(), torus(24, 12, 6.0, 0.7, name="ring_low")], "ring_low")
    low = replace(low, object_names=("ring_low",), objects=np.zeros(len(low.triangles), np.int32))
    finding = found(low, high)["winding"]
    assert finding.count == len(balls[1].triangles)
    assert "A shell of ring_high" in finding.what
    fixed = apply(Recipe(), finding.fix)
    assert "winding" not in found(low, high, fixed)
    after = treated(high, fixed.files["ring_high"])
    np.testing.assert_array_equal(after.triangles[: len(balls[0].triangles)], high.triangles[: len(balls[0].triangles)])


def test_turning_over_keeps_normals_that_were_right():
    """Reversed winding with right normals: the faces turn, the normals stay."""
    right = with_normals(ring(96, "ring_high"))
    wrong = turned_over(right)
    fixed = flip_winding(wrong, np.ones(len(wrong.triangles), bool))
    np.testing.assert_array_equal(fixed.triangles, right.triangles)
    np.testing.assert_allclose(fixed.normals.at_corners(), right.normals.at_corners())
    values = wrong.normals.at_corners() * np.float32(-1)  # normals reversed with the winding
    back = flip_winding(replace(wrong, normals=values_at_corners(values)), np.ones(len(wrong.triangles), bool))
    np.testing.assert_allclose(back.normals.at_corners(), right.normals.at_corners(), atol=1e-6)


def test_different_islands_in_equal_boxes_overlap():
    """A square and an octagon in one box are no mirrored halves."""
    square = replace(plane(1, name="twin_low"), object_names=("twin_low",))
    angles = np.linspace(0, 2 * np.pi, 9)[:-1]
    rim = np.stack([np.cos(angles), np.sin(angles)], axis=1) / 2 + 0.5
    points = np.concatenate([[[0.5, 0.5]], rim]).astype(np.float32)
    triangles = np.array([[0, 1 + n, 1 + (n + 1) % 8] for n in range(8)], np.int32)
    disc = Mesh(
        "disc",
        np.column_stack([points + np.float32([3, 0]), np.zeros(9)]).astype(np.float32),
        triangles,
        uvs=(CornerValues(points, triangles),),
        object_names=("disc_low",),
    )
    low = merge([square, disc], "both.glb")
    highs = merge(
        [replace(plane(4, name="x"), object_names=("twin_high",)), replace(disc, object_names=("disc_high",))], "h"
    )
    assert found(low, highs)["overlaps"].title == "Overlapping islands"


def test_uneven_stretch_is_found_and_even_scale_is_not():
    tall = with_uvs(ring(), lambda uv: uv * np.array([0.1, 1], np.float32))
    wide = with_uvs(ring(), lambda uv: uv * np.array([0.1, 0.1], np.float32))
    plain = found(ring())
    assert "stretch" not in plain
    assert "stretch" not in found(wide)
    assert "times as long as wide" in found(tall)["stretch"].what


def test_other_suffixes_are_in_the_words():
    recipe = Recipe(pairing=Pairing(low="-lp", high="-hp"))
    findings = check(recipe, BakeMeshes([], [], [replace(ring(), name="x-lp", object_names=("x-lp",))]))
    assert findings[0].title == "No high"


def test_every_trouble_of_the_troubled_inkstand_is_found_and_none_on_the_clean_one():
    low, high = troubled.build()
    recipe = pieces()[0].recipe
    findings = check(recipe, BakeMeshes([], [], [low, high]))
    places = {(f.check, f.part.rpartition("/")[2]) for f in findings}
    assert {(key, part) for key, part, _ in troubled.TROUBLES} <= places
    assert "blocking" not in {f.severity for f in findings}
    clean = check(recipe, BakeMeshes([], [], [*inkstand.build()]))
    assert {f.severity for f in clean} == {"note"}


def test_marks_are_bounded_and_lie_on_the_sheet():
    finding = found(flat_shaded(grid_mesh(80, 80, lambda u, v: (u, v, 0.1 * np.sin(9 * u)), "ring_low")))["hard_edges"]
    assert len(finding.marks.corners) == len(finding.marks.uvs) == 3000


def test_checks_are_cancelled_between_two_of_them():
    asked = []
    with pytest.raises(Cancelled):
        check(
            Recipe(),
            BakeMeshes([], [], [ring(), ring(96, "ring_high")]),
            cancel=lambda: len(asked) > 3 or asked.append(1),
        )
    assert len(asked) == 4


def test_a_low_that_is_subdivided_is_checked_as_it_was_made():
    recipe = Recipe(subdivision=Subdivision(scheme="loop", levels=1))
    meshes = BakeMeshes([torus(12, 8)], [torus(60, 30, name="high")])
    assert [f.what for f in check(recipe, meshes)] == [f.what for f in check(Recipe(), meshes)]


def test_one_high_of_many_pairs_that_looks_away_is_found_without_looking_everywhere_anew(monkeypatch):
    """What is looked at does not grow with the pairs, but for a floor of each."""
    count, looked = 60, []
    lows, highs = [], []
    for n in range(count):
        by = np.float32([2 * n, 0, 0])
        low, high = plane(4, name=f"tile{n}_low"), replace(plane(20, 0.02, name=f"tile{n}_high"), uvs=())
        lows.append(replace(low, positions=low.positions + by))
        highs.append(replace(high, positions=high.positions + by))
    highs[37] = replace(highs[37], triangles=highs[37].triangles[:, ::-1].copy())
    cloud = winding._cloud
    monkeypatch.setattr(winding, "_cloud", lambda shells, points: looked.append(points) or cloud(shells, points))
    meshes = BakeMeshes([], [], [merge(lows, "low"), merge(highs, "high")])
    (finding,) = [f for f in check(Recipe(), meshes) if f.check == "winding"]
    assert finding.part.endswith("tile37_high")
    assert sum(looked) <= count * (winding.LOW_A_PAIR + winding.HIGH_A_PAIR)


def test_quads_that_tie_are_told_with_how_far_the_normals_part():
    """A square whose corners lie on a saddle: both cuts have their own normals in its middle."""
    points = np.float32([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]])
    bent = np.float32([[0.6, 0, 0.8], [0, 0, 1], [0.6, 0, 0.8], [0, 0, 1]])
    triangles = np.int32([[0, 1, 2], [0, 2, 3]])
    mesh = Mesh("saddle_low.obj", points, triangles, CornerValues(bent, triangles), polygons=np.int32([0, 0]))
    tied, apart = tied_quads(mesh)
    assert tied.tolist() == [[0, 1]]
    assert apart == pytest.approx([np.degrees(np.arcsin(0.6))])
    points = points.copy()
    points[1, 1] = 0.2
    assert not len(tied_quads(replace(mesh, positions=points))[0])
    found = [f for f in check(Recipe(), BakeMeshes([mesh], [plane(2)])) if f.title == "Quads that tie"]
    assert [f.count for f in found] == [1]
    assert "up to 36.9° apart" in found[0].what


def test_long_triangles_of_a_sculpt_make_no_low_stray():
    """Distances are from the surface: a plane of two triangles has no vertex near the low's middle."""
    fine, two = replace(plane(20), name="a_low"), replace(plane(1), name="a_high", uvs=())
    assert "stray" not in {finding.check for finding in check(Recipe(), BakeMeshes([fine], [two]))}


def test_treating_as_smooth_keeps_what_bends_by_more_than_its_angle():
    """A flat-shaded tube with caps: its sides become round, the rims at 90 degrees stay hard, and that is told."""
    side = grid_mesh(24, 6, lambda u, v: (np.cos(2 * np.pi * (u % 1)), np.sin(2 * np.pi * (u % 1)), v), "high")
    lid = grid_mesh(
        24,
        4,
        lambda u, v: ((1 - v) * np.cos(2 * np.pi * (u % 1)), (1 - v) * np.sin(2 * np.pi * (u % 1)), 1 + 0 * u),
        "lid",
    )
    high = flat_shaded(
        replace(
            merge([side, lid], "high"),
            uvs=(),
            object_names=("high",),
            objects=np.zeros(336 + 144, np.int32)[: len(side.triangles) + len(lid.triangles)],
        )
    )
    meshes = BakeMeshes([replace(side, name="low")], [high])
    (finding,) = [f for f in check(Recipe(), meshes) if f.check == "faceted"]
    assert finding.fix.angle == 60
    assert "24 edges beyond 60°" in finding.what + finding.remedy
    for angle, hard in ((60.0, True), (180.0, False)):
        recipe = apply(Recipe(), replace(finding.fix, file="high", angle=angle))
        done = treated(high, recipe.file("high"))
        rim = np.isclose(corner_positions(done)[..., 2], 1) & (
            np.hypot(*corner_positions(done)[..., :2].transpose(2, 0, 1)) > 0.99
        )
        upright = np.abs(done.normals.at_corners()[rim][:, 2])
        assert bool(((upright < 0.01) | (upright > 0.99)).all()) == hard
