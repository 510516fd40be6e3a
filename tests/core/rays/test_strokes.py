"""Nudges: strokes in space change rays where they lie, in their order, whatever the low's topology."""

import numpy as np
import pytest
from pydantic import ValidationError

from inkwell_cast.core.cage.cage import build_cage, rays_of
from inkwell_cast.core.mesh.mesh import CornerValues, Mesh, corner_positions, merge
from inkwell_cast.core.mesh.normals import with_normals
from inkwell_cast.core.mesh.surface_samples import spread_over
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.rays.ray import reach_at
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Pocket, Stroke

from ...shapes import plane

MIDDLE = (0.5, 0.5, 0.0)


def stroke(kind="out", points=(MIDDLE,), radius=0.2, amount=0.1, **more):
    return Stroke(kind=kind, points=list(points), radius=radius, amount=amount, **more)


def reach_over(strokes, cells=1, pockets=(), places=None):
    """Places over a unit square and the outward reach there, for a low of some cells and an even reach of 0.2."""
    low = plane(cells)
    recipe = Recipe(reach=Reach(unit="scene", outward=0.2, inward=0.1), nudges=strokes, pockets=list(pockets))
    assembly = assemble(recipe, BakeMeshes([low], [plane(1, 0.05, name="high")]))
    rays = rays_of(assembly, build_cage(assembly))
    found, rows, b = spread_over(corner_positions(low).astype(float), np.arange(len(low.triangles)), 3000)
    if places is not None:
        rows, b = located(low, places)
        found = places
    return found, reach_at(rays, rows, b)[:, 2]


def located(low, places):
    """The triangle and barycentrics of places (N, 3) of a flat low."""
    p = corner_positions(low).astype(float)
    rows, found = [], []
    for place in places:
        u, v, w = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0], place - p[:, 0]
        area = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
        b1, b2 = (w[:, 0] * v[:, 1] - w[:, 1] * v[:, 0]) / area, (u[:, 0] * w[:, 1] - u[:, 1] * w[:, 0]) / area
        t = int(np.argmax(np.minimum(np.minimum(b1, b2), 1 - b1 - b2)))
        rows.append(t)
        found.append((1 - b1[t] - b2[t], b1[t], b2[t]))
    return np.array(rows), np.array(found)


def test_a_dab_lifts_the_cage_inside_a_face_and_nowhere_else():
    places, reach = reach_over([stroke(falloff=0.0)])
    inside = np.linalg.norm(places - MIDDLE, axis=1) < 0.2
    np.testing.assert_allclose(reach[inside], 0.3, atol=1e-6)
    np.testing.assert_allclose(reach[~inside], 0.2, atol=1e-6)


def test_strokes_and_pockets_leave_the_sheet_beside_alone():
    """Two sheets 0.05 apart, as neighbouring fingers are: what lies on one never touches the other."""
    both = merge([plane(4, name="one"), plane(4, 0.05, name="other")], "low")
    pocket = Pocket(centre=(0.2, 0.2, 0.0), radius=0.15, outward=0.5, inward=0.1)
    line = [(0.5, 0.3, 0.0), (0.8, 0.8, 0.0)]
    for strokes, pockets in (([stroke(points=line)], []), ([], [pocket])):
        recipe = Recipe(reach=Reach(unit="scene", outward=0.2, inward=0.1), nudges=strokes, pockets=pockets)
        assembly = assemble(recipe, BakeMeshes([both], [plane(1, 0.1, name="high")]))
        rays = rays_of(assembly, build_cage(assembly))
        places, rows, b = spread_over(corner_positions(both).astype(float), np.arange(len(both.triangles)), 3000)
        reach, upper = reach_at(rays, rows, b)[:, 2], places[:, 2] > 0.01
        np.testing.assert_allclose(reach[upper], 0.2, atol=1e-6)
        assert (reach[~upper] > 0.25).sum() > 50


def test_a_stroke_goes_over_an_edge_at_which_three_faces_meet_however_they_are_wound():
    points = np.array([[0, 0, 0], [0, 1, 0], [1, 0.5, 0], [-1, 0.5, 0], [0, 0.5, 1]], np.float32)
    triangles = np.array([[1, 0, 2], [0, 1, 3], [0, 1, 4]], np.int32)
    low = with_normals(Mesh("fan", points, triangles, uvs=(CornerValues(points[:, :2].copy(), triangles),)))
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.2, inward=0.1), nudges=[stroke(points=[(0.1, 0.5, 0)], falloff=0.0)]
    )
    assembly = assemble(recipe, BakeMeshes([low], [plane(1, name="high")]))
    rays = rays_of(assembly, build_cage(assembly))
    on_edge = np.array([[0.475, 0.475, 0.05]] * 3)
    lengths = np.linalg.norm(reach_at(rays, np.arange(3), on_edge), axis=1)
    plain = np.linalg.norm(np.einsum("nk,nkc->nc", on_edge, rays.offsets.astype(float)), axis=1)
    np.testing.assert_allclose(lengths - plain, 0.1, atol=1e-5)


def test_it_fades_out_smoothly_and_a_line_of_points_has_no_gaps():
    places, reach = reach_over([stroke(points=[(0.2, 0.5, 0), (0.8, 0.5, 0)], falloff=1.0)])
    away = np.where(places[:, 0] < 0.2, np.hypot(places[:, 0] - 0.2, places[:, 1] - 0.5), 0)
    away = np.where(places[:, 0] > 0.8, np.hypot(places[:, 0] - 0.8, places[:, 1] - 0.5), away)
    away = np.where((places[:, 0] >= 0.2) & (places[:, 0] <= 0.8), np.abs(places[:, 1] - 0.5), away)
    s = np.clip(1 - away / 0.2, 0, 1)
    np.testing.assert_allclose(reach, 0.2 + 0.1 * s * s * (3 - 2 * s), atol=1e-6)


def test_in_never_goes_through_the_low():
    assert reach_over([stroke("in", amount=5.0)])[1].min() == 0


def test_erase_takes_back_what_came_before_and_leaves_what_comes_after():
    strokes = [stroke(falloff=0.0), stroke("erase", amount=1.0, falloff=0.0, radius=0.5)]
    np.testing.assert_allclose(reach_over(strokes)[1], 0.2, atol=1e-6)
    assert reach_over([*strokes, stroke(falloff=0.0)])[1].max() == pytest.approx(0.3, abs=1e-6)
    half = reach_over([stroke(falloff=0.0), stroke("erase", amount=0.5, falloff=0.0, radius=0.5)])[1]
    assert half.max() == pytest.approx(0.25, abs=1e-6)


def test_smooth_draws_to_the_mean_around_the_brush():
    step = [stroke(points=[(0.0, 0.5, 0), (0.0, 0.5, 0)], radius=0.5, falloff=0.0)]  # the left half stands 0.1 higher
    smooth = stroke("smooth", points=[(0.5, 0.2, 0), (0.5, 0.8, 0)], radius=0.1, amount=1.0, falloff=0.0)
    places = np.array([[0.45, 0.5, 0], [0.495, 0.5, 0], [0.505, 0.5, 0], [0.8, 0.5, 0]])
    _, before = reach_over(step, places=places)
    _, after = reach_over([*step, smooth], places=places)
    assert before[1] - before[2] == pytest.approx(0.1, abs=1e-6)
    assert abs(after[1] - after[2]) < 1e-6
    assert after[0] == pytest.approx(0.25, abs=0.02)
    assert after[3] == pytest.approx(0.2, abs=1e-6)


def test_smooth_also_evens_out_a_pocket():
    pocket = Pocket(centre=MIDDLE, radius=0.2, outward=0.6, inward=0.1, rim=0)
    smooth = stroke("smooth", radius=0.4, amount=1.0, falloff=0.5)
    _, plain = reach_over([], pockets=[pocket])
    _, smoothed = reach_over([smooth], pockets=[pocket])
    assert plain.max() == pytest.approx(0.6, abs=1e-5)
    assert 0.25 < smoothed.max() < 0.35  # a quarter of the brush's ground lies in the pocket


def test_a_mirrored_stroke_does_the_same_on_the_other_side():
    places = np.array([[0.3, 0.3, 0], [0.3, 0.7, 0]])
    _, reach = reach_over([stroke(points=[(-0.3, 0.3, 0)], falloff=0.0, mirror="x")], places=places)
    np.testing.assert_allclose(reach, [0.3, 0.2], atol=1e-6)


def test_a_nudge_survives_a_change_of_topology():
    places = np.random.default_rng(1).uniform(0.01, 0.99, (300, 2))
    places = np.column_stack([places, np.zeros(300)])
    strokes = [
        stroke(points=[(0.2, 0.3, 0), (0.6, 0.7, 0), (0.9, 0.1, 0)]),
        stroke("in", radius=0.3, amount=0.05),
        stroke("erase", points=[(0.6, 0.6, 0)], amount=0.7),
    ]
    _, coarse = reach_over(strokes, places=places)
    _, fine = reach_over(strokes, cells=7, places=places)
    np.testing.assert_allclose(coarse, fine, atol=2e-7)
    smooth = [*strokes, stroke("smooth", radius=0.3, amount=1.0)]
    np.testing.assert_allclose(
        reach_over(smooth, places=places)[1], reach_over(smooth, cells=7, places=places)[1], atol=2e-3
    )


def test_what_cannot_be_a_stroke_is_refused():
    for wrong in ({"radius": 0}, {"points": []}, {"kind": "twist"}, {"falloff": 2}, {"amount": -1}):
        with pytest.raises(ValidationError):
            Stroke.model_validate({"points": [MIDDLE], "radius": 1, "amount": 1} | wrong)
