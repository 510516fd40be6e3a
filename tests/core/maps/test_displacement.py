"""Subdivision against its closed forms, and two-step relief against displacements that are known."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff.export_meshes import displaced_mesh, low_mesh
from inkwell_cast.core.mesh.adjacency import edges_of
from inkwell_cast.core.mesh.mesh import values_at_corners
from inkwell_cast.core.mesh.normals import smooth, with_normals
from inkwell_cast.core.mesh.subdivision import subdivided
from inkwell_cast.core.settings.maps import Displacement, Subdivision

from ...shapes import cube, grid_mesh, plane, torus
from ..bakes import baked, facts, values

SCHEMES = ("flat", "loop", "catmull-clark")


def quads(mesh):
    """The mesh with its triangles, two by two as they share their longest edge, as polygons of the file."""
    count = len(mesh.triangles)
    each = np.arange(count, dtype=np.int32)
    return replace(mesh, polygons=each // 2 if mesh.name == "cube" else each % (count // 2))


def rounded(mesh):
    return replace(mesh, normals=smooth(mesh))


@pytest.mark.parametrize("scheme", SCHEMES)
def test_every_level_makes_four_faces_of_one_and_leaves_no_hole(scheme):
    made = subdivided(quads(rounded(torus(12, 8))), Subdivision(scheme=scheme, levels=2))
    assert len(made.triangles) == 16 * 2 * 12 * 8
    edges = edges_of(made)
    assert (edges.uses == 2).all()
    assert not edges.against.any()


def test_catmull_clark_of_a_cube_has_the_known_first_points():
    made = subdivided(quads(rounded(cube(2.0))), Subdivision(scheme="catmull-clark", levels=1))
    lengths = sorted({tuple(np.round(np.sort(np.abs(p)), 5)) for p in made.positions.tolist()})
    assert lengths == [(0, 0, 1), (0, 0.75, 0.75), (0.55556, 0.55556, 0.55556)]  # faces, edges, corners


def test_loop_keeps_a_regular_plane_and_draws_a_lone_peak_to_five_eighths():
    flat = plane(6)
    made = subdivided(flat, Subdivision(scheme="loop", levels=2))
    assert np.ptp(made.positions[:, 2]) == 0
    assert np.allclose(made.bounds, flat.bounds)  # the corners of an open sheet stay
    peak = flat.positions.copy()
    middle = np.argmin(np.linalg.norm(peak[:, :2] - peak[:, :2].mean(axis=0), axis=1))
    peak[np.all(peak == peak[middle], axis=1), 2] = 1
    made = subdivided(rounded(replace(flat, positions=peak)), Subdivision(scheme="loop", levels=1))
    assert made.positions[:, 2].max() == pytest.approx(1 - 6 * 1 / 16)  # six neighbours, each with 1 / 16


@pytest.mark.parametrize("scheme", ["loop", "catmull-clark"])
def test_hard_edges_stay_if_they_are_to_and_round_if_not(scheme):
    box = quads(with_normals(cube(2.0)))
    sharp = subdivided(box, Subdivision(scheme=scheme, levels=3))
    assert np.allclose(np.abs(sharp.positions).max(axis=1), 1, atol=1e-6)  # all on the cube's faces
    assert np.allclose(sharp.bounds, box.bounds)
    assert np.abs(np.abs(sharp.normals.at_corners()).max(axis=2) - 1).max() < 1e-6
    soft = subdivided(box, Subdivision(scheme=scheme, levels=3, creases=False))
    assert np.linalg.norm(soft.positions, axis=1).max() < 1.5


def test_flat_keeps_shape_uvs_colours_and_names():
    low = quads(torus(8, 6))
    tints = low.positions[low.triangles] / 6 + 0.5
    colored = np.concatenate([tints, np.ones((*tints.shape[:2], 1))], axis=2).astype(np.float32)
    low = replace(low, colors=values_at_corners(colored))
    made = subdivided(low, Subdivision(scheme="flat", levels=2))
    assert made.object_names == low.object_names
    assert np.allclose(made.colors.at_corners()[..., :3], made.positions[made.triangles] / 6 + 0.5, atol=1e-6)

    def area(mesh):
        uv = mesh.uvs[0].at_corners()
        u, v = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
        return (u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum()

    assert area(made) == pytest.approx(area(low), rel=1e-5)


def test_polygons_of_five_corners_and_too_many_faces():
    angle = np.arange(5) * 2 * np.pi / 5
    ring = np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1).astype(np.float32)
    fan = np.array([[0, 1, 2], [0, 2, 3], [0, 3, 4]], np.int32)
    low = replace(plane(1), positions=ring, triangles=fan, uvs=(), normals=None, polygons=np.zeros(3, np.int32))
    made = subdivided(replace(low, objects=np.zeros(3, np.int32)), Subdivision(scheme="catmull-clark", levels=1))
    assert len(made.triangles) == 10  # five quads
    with pytest.raises(InputProblem, match="about 8,388,608 triangles"):
        subdivided(plane(32), Subdivision(scheme="flat", levels=6))


def wavy(x, y):
    return 0.05 * np.sin(2 * np.pi * x) * np.cos(2 * np.pi * y)


def relief(levels=5, **more):
    low = plane(1)
    high = grid_mesh(200, 200, lambda u, v: (u, v, wavy(u, v)), "high")
    how = Subdivision(scheme="flat", levels=levels)
    return baked(low, high, ["normal", "height", "displacement"], size=64, subdivision=how, **more)


def test_displacement_is_the_sculpts_height_and_the_displaced_low_lies_on_it():
    result = relief(displacement=Displacement(range=0.1))
    at = (np.arange(64) + 0.5) / 64
    known = wavy(at[None, :], 1 - at[:, None])
    found = (values(result, "displacement") - 0.5) * 0.2
    assert np.abs(found - known).max() < 0.002
    told = facts(result, "displacement")
    assert (told["black"], told["white"]) == (-0.1, 0.1)
    assert told["triangles"] == 2 * 4**5
    assert told["distance_before"][0] == pytest.approx(0.05 * (2 / np.pi) ** 2, rel=0.02)
    assert told["distance_after"][1] < 0.001
    placed = result.assembly.low.positions
    assert np.abs(placed[:, 2] - wavy(placed[:, 0], placed[:, 1])).max() < 0.002
    assert np.abs(result.cast.height).max() < 0.002  # the height map now tells what is left


def test_the_normal_map_of_the_displaced_low_is_as_like_the_sculpt_and_flatter(tmp_path):
    result = relief()
    manifest = save(result, tmp_path)
    assert manifest.likeness.mean < 0.01  # 16 bits
    flat = baked(plane(1), grid_mesh(200, 200, lambda u, v: (u, v, wavy(u, v)), "high"), ["normal"], size=64)

    def leans(image):
        return np.abs(image[..., :2] - 0.5).mean()

    assert leans(values(result, "normal")) < 0.2 * leans(values(flat, "normal"))


def test_a_seam_opens_no_crack_and_the_proof_displaces_alike():
    small, large = torus(16, 8), torus(160, 80, small=0.8)
    how = {"subdivision": Subdivision(scheme="loop", levels=2), "outward": 0.4, "inward": 0.4}
    result = baked(small, large, ["displacement"], size=64, **how)
    assert (edges_of(result.assembly.low).uses == 2).all()
    again = baked(small, large, ["displacement"], size=32, **how)
    assert np.array_equal(result.assembly.low.positions, again.assembly.low.positions)


def test_the_displaced_low_leaves_as_a_mesh_with_tangents():
    result = relief(levels=2)
    made = low_mesh(result.assembly, result.warm)
    assert made.tangents is not None
    assert np.ptp(made.positions[:, 2]) > 0.05
    undone = baked(plane(1), plane(4), ["normal"])
    with pytest.raises(InputProblem, match="Choose the displacement map"):
        displaced_mesh(undone.assembly, undone.warm)


def test_no_sculpt_in_reach_of_a_displacement_is_said_plainly():
    with pytest.raises(InputProblem, match="Raise the reach"):
        baked(plane(1), plane(4, height=9.0), ["displacement"])
