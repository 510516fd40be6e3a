import pathlib
import shutil
import subprocess
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.images import png
from inkwell_cast.core.maps import REGISTRY
from inkwell_cast.core.mesh.mesh import Mesh, corner_positions, merge, values_at_corners
from inkwell_cast.core.mesh.normals import with_normals
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review.likeness import angles
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.tangent.frame import frame, to_object, to_tangent
from inkwell_cast.core.tangent.mikktspace import mikktspace
from inkwell_cast.demo import inkstand

from ...shapes import cube, grid_mesh, plane, soup, torus

TESTS = pathlib.Path(__file__).parents[2]
UP = [[0, 0, 1]] * 3


def reference(mesh: Mesh, folder: pathlib.Path) -> np.ndarray:
    """Tangents of the independent implementation."""
    arrays = {"p": corner_positions(mesh), "n": mesh.normals.at_corners(), "t": mesh.uvs[0].at_corners()}
    for name, array in arrays.items():
        np.ascontiguousarray(array, np.float32).tofile(folder / name)
    files = [str(folder / name) for name in ("p", "n", "t", "out")]
    subprocess.run([shutil.which("node") or "node", TESTS / "mikktspace_oracle.js", *files], check=True, cwd=TESTS)
    return np.fromfile(folder / "out", np.float32).reshape(-1, 3, 4)


def mirrored_pair() -> Mesh:
    """Two quads that share an edge in space, the second with its U turned over."""
    p = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, 0.3], [2, 1, 0.3]], np.float32)
    t = np.array([[0, 0], [1, 0], [1, 1], [0, 1], [0, 0], [0, 1]], np.float32)
    faces = np.array([[0, 1, 2], [0, 2, 3], [1, 4, 5], [1, 5, 2]])
    return soup(p[faces], np.broadcast_to(UP, (4, 3, 3)), t[faces])


def with_flat_ones() -> Mesh:
    """A torus with triangles that have no area in space, others that have none in UV, and a lone bad one."""
    mesh = torus(9, 6)
    p, n, t = corner_positions(mesh), mesh.normals.at_corners(), mesh.uvs[0].at_corners()
    p, n, t = p.copy(), n.copy(), t.copy()
    for k in (5, 17, 40):
        p[k, 1], n[k, 1], t[k, 1] = p[k, 0], n[k, 0], t[k, 0]
    for k in (8, 23, 60):
        t[k] = t[k, 0]
    p[70] = 9.0
    return soup(p, n, t)


def noise(count: int) -> Mesh:
    """Triangles over few positions, normals and UVs, so that corners meet in every way."""
    random = np.random.default_rng(count)
    p = random.integers(0, 3, (count, 3, 3)).astype(np.float32)
    n = np.eye(3, dtype=np.float32)[random.integers(0, 3, (count, 3))]
    t = random.integers(0, 3, (count, 3, 2)).astype(np.float32)
    return soup(p, n, t)


CASES = {
    "torus": lambda: torus(24, 12),
    "mirrored": mirrored_pair,
    "degenerate": with_flat_ones,
    "split corners": cube,
    "shared corners": lambda: with_normals(merge([torus(8, 5), plane(3)], "two")),
    "noise 60": lambda: noise(60),
    "noise 400": lambda: noise(400),
    "inkstand": lambda: inkstand.build()[0],
}


@pytest.mark.parametrize("case", CASES)
def test_equals_the_reference(case, tmp_path):
    mesh = CASES[case]()
    expected, found = reference(mesh, tmp_path), mikktspace(mesh)
    np.testing.assert_allclose(found[..., :3], expected[..., :3], atol=1e-5)
    np.testing.assert_array_equal(found[..., 3], expected[..., 3])


def test_a_flat_square_by_hand():
    found = mikktspace(with_normals(plane()))
    np.testing.assert_allclose(found, np.broadcast_to([1, 0, 0, 1], (2, 3, 4)), atol=1e-7)


def test_mirroring_u_turns_the_tangent_and_flips_the_sign():
    square = with_normals(grid_mesh(1, 1, lambda u, v: (u, v, 0 * u), uv=lambda u, v: (1 - u, v)))
    np.testing.assert_allclose(mikktspace(square), np.broadcast_to([-1, 0, 0, -1], (2, 3, 4)), atol=1e-7)


def test_groups_of_opposite_orientation_stay_apart():
    found = mikktspace(mirrored_pair())
    assert set(found[:2, :, 3].ravel()) == {1.0}
    assert set(found[2:, :, 3].ravel()) == {-1.0}


@settings(max_examples=25, deadline=None)
@given(st.randoms(use_true_random=False))
def test_the_order_of_triangles_does_not_matter(random):
    mesh = torus(7, 5)
    order = list(range(len(mesh.triangles)))
    random.shuffle(order)
    p, n, t = corner_positions(mesh), mesh.normals.at_corners(), mesh.uvs[0].at_corners()
    straight = mikktspace(soup(p, n, t))
    mixed = mikktspace(soup(p[order], n[order], t[order]))
    np.testing.assert_allclose(mixed, straight[order], atol=2e-6)


unit = st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: sum(x * x for x in v) > 0.01)


@settings(max_examples=200, deadline=None)
@given(unit, unit, unit, unit, st.sampled_from([-1.0, 1.0]), st.floats(0, 1), st.integers(0, 7))
def test_object_to_tangent_and_back_is_exact(sculpt, n0, n1, t0, sign, share, form):
    normals = np.array([n0, n1, n1], np.float64)
    tangents = np.array([[*t0, sign], [*t0[::-1], sign], [*t0, sign]], np.float64)
    f = frame(share, 0.6 * (1 - share), 0.4 * (1 - share), normals, tangents, form)
    n, t, b = np.array(f[:3]), np.array(f[3:6]), np.array(f[6:])
    if abs(np.dot(t, np.cross(b, n))) < 1e-3:
        return  # a frame this flat stands for no surface
    wanted = np.array(sculpt) / np.linalg.norm(sculpt)
    np.testing.assert_allclose(to_object(*to_tangent(wanted, f), f), wanted, atol=1e-9)


def test_objects_that_touch_are_kept_apart():
    left, right = plane(name="left"), grid_mesh(1, 1, lambda u, v: (1 + v, 1 - u, 0 * u), "right")
    both = merge([with_normals(left), with_normals(right)], "both")
    alone = np.concatenate([mikktspace(with_normals(left)), mikktspace(with_normals(right))])
    np.testing.assert_array_equal(mikktspace(both), alone)


def test_a_mesh_without_uvs_is_refused():
    with pytest.raises(ValueError, match="needs normals and UV channel 0"):
        mikktspace(Mesh("bare", np.zeros((3, 3), np.float32), np.array([[0, 1, 2]], np.int32)))


@pytest.mark.parametrize(
    "basis",
    [
        {},
        {"green": "down"},
        {"bitangent": "vertex"},
        {"lengths": "unit"},
        {"hand": "left"},
        {"bitangent": "vertex", "lengths": "unit", "hand": "left", "green": "down"},
        {"dither": True},
    ],
)
def test_every_basis_gives_the_sculpt_s_normals_back(basis):
    low, high, warm = torus(9, 5), torus(120, 60), Warm()
    recipe = Recipe(
        reach=Reach(outward=8, inward=8),
        sheet=Sheet(width=96, height=96, samples=1),
        output=Output(depth=8 if basis.get("dither") else 16),
    )
    plain = bake(recipe, BakeMeshes([low], [high]), warm=warm)
    made = bake(recipe.model_copy(update={"basis": Basis(**basis)}), BakeMeshes([low], [high]), warm=warm)
    context = made.sheets[0].context
    back = REGISTRY["normal"].read_back(png.dequantise(made.images["normal"]), context)
    assert np.nanpercentile(angles(made.cast, back), 99) < (0.7 if basis.get("dither") else 0.01)
    assert (made.images["normal"].tobytes() != plain.images["normal"].tobytes()) == bool(basis)


def test_left_handed_and_green_down_are_one_turned_twice():
    low, high, warm = torus(9, 5), torus(120, 60), Warm()
    recipe = Recipe(
        reach=Reach(outward=8, inward=8), sheet=Sheet(width=64, height=64, samples=1), output=Output(depth=16)
    )
    one, other = (
        bake(recipe.model_copy(update={"basis": Basis(**basis)}), BakeMeshes([low], [high]), warm=warm)
        .images["normal"]
        .astype(int)
        for basis in ({}, {"hand": "left", "green": "down"})
    )
    np.testing.assert_allclose(one, other, atol=1)


def test_tangents_of_the_file_are_taken_or_missed_by_name():
    low = torus(9, 5)
    with_file = replace(low, tangents=values_at_corners(mikktspace(low)))
    recipe = Recipe(sheet=Sheet(width=64, height=64, samples=1), basis=Basis(tangents="file"), output=Output(depth=16))
    same = bake(recipe, BakeMeshes([with_file], [torus(90, 45)])).images["normal"]
    own = bake(recipe.model_copy(update={"basis": Basis()}), BakeMeshes([with_file], [torus(90, 45)])).images["normal"]
    assert same.tobytes() == own.tobytes()
    with pytest.raises(InputProblem, match="90 triangles of the low have no tangents"):
        bake(recipe, BakeMeshes([low], [torus(90, 45)]))


def test_dithered_steps_are_right_in_the_mean():
    steps = png.quantise(np.full((200, 200, 3), 100.3 / 255, np.float32), 8, dither=True)
    assert set(np.unique(steps)) == {100, 101}
    assert steps.mean() == pytest.approx(100.3, abs=0.01)
