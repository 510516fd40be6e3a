"""Each check: a mesh that shows what it looks for, and one that does not."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core import editing
from inkwell_cast.core.assembly import BakeMeshes
from inkwell_cast.core.checks import REGISTRY, check
from inkwell_cast.core.errors import Cancelled
from inkwell_cast.core.map_settings import Subdivision
from inkwell_cast.core.mesh import Mesh, layer_of_corners, merge, subset
from inkwell_cast.core.normals import face_normals
from inkwell_cast.core.recipe import Pairing, Recipe, Sheet
from inkwell_cast.demo import inkstand, pieces, troubled

from ..shapes import cube, grid_mesh, plane, torus


def ring(around=24, name="ring_low", **changes):
    return replace(torus(around, around // 2, name=name), **changes)


def found(low=None, high=None, recipe=None, others=()):
    """Findings by check for a ring and its sculpt, either of them replaced."""
    meshes = BakeMeshes([], [], [low or ring(), high or ring(96, "ring_high"), *others])
    return {f.check: f for f in check(recipe or Recipe(), meshes)}


def test_a_good_pair_has_nothing_to_object_to():
    assert found() == {}


def with_uvs(mesh, change):
    uvs = mesh.uvs[0].at_corners()
    return replace(mesh, uvs=(layer_of_corners(change(uvs)),))


def flat_shaded(mesh):
    normals = np.repeat(face_normals(mesh.positions, mesh.triangles)[:, None], 3, axis=1)
    return replace(mesh, normals=layer_of_corners(normals))


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


def turned(mesh, rows=slice(None)):
    triangles = mesh.triangles.copy()
    triangles[rows] = triangles[rows, ::-1]
    return replace(mesh, triangles=triangles, normals=None, uvs=())


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
    density = found(replace(big, uvs=(layer_of_corners(uvs),)), cube(name="box_high"))["density"]
    assert "times coarser" in density.what
    assert len(density.marks.corners) == 2


def test_nothing_paired_is_blocking_and_can_be_made_one_pair():
    meshes = BakeMeshes([], [], [ring(), ring(96, "sculpt_high")])
    worst = check(Recipe(), meshes)[0]
    assert (worst.severity, worst.title) == ("blocking", "Nothing is paired")
    assert [f for f in check(editing.apply(Recipe(), worst.fix), meshes) if f.severity == "blocking"] == []
    only = check(Recipe(), BakeMeshes([], [], [ring()]))[0]
    assert only.title == "No high"
    assert check(editing.apply(Recipe(), only.fix), BakeMeshes([], [], [ring()])) == []


@pytest.mark.parametrize("key", [k for k, case in CASES.items() if k in ("winding", "place", "tiles", "hard_edges", "faceted", "doubles")])  # fmt: skip
def test_a_fix_removes_its_finding_and_leaves_the_mesh_of_the_user(key):
    low, high = CASES[key]
    low, high = low or ring(), high or ring(96, "ring_high")
    before = [mesh.positions.tobytes() + mesh.triangles.tobytes() for mesh in (low, high)]
    fixed = editing.apply(Recipe(), found(low, high)[key].fix)
    assert key not in found(low, high, fixed)
    assert [mesh.positions.tobytes() + mesh.triangles.tobytes() for mesh in (low, high)] == before
    name = next(iter(fixed.files))
    undone = editing.set_file(editing.without_fix(fixed, name, 0), name, scale=1.0, move=(0, 0, 0))
    assert key in found(low, high, undone)


def test_an_alignment_snaps_to_a_change_of_units():
    fix = found(*CASES["place"])["place"].fix
    assert (fix.scale, fix.move) == (0.01, (0.0, 0.0, 0.0))
    apart = replace(ring(96, "ring_high"), positions=ring(96).positions + np.float32(40))
    assert found(None, apart)["place"].fix.move == pytest.approx((-40, -40, -40), abs=0.05)


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
