from dataclasses import replace

import numpy as np

from inkwell_cast.core.mesh.mesh import CornerValues, Mesh, merge
from inkwell_cast.core.mesh.normals import averaged, face_normals, smooth, weld, with_normals

from ...shapes import cube, plane, torus


def test_weld_names_the_first_equal_row():
    rows = np.array([[0, 1], [2, 3], [-0.0, 1], [2, 3.5], [2, 3]], np.float32)
    assert weld(rows).tolist() == [0, 1, 0, 3, 1]


def test_smooth_normals_of_a_cube_point_along_its_diagonals():
    mesh = cube()
    found = smooth(mesh).at_corners().reshape(-1, 3)
    expected = mesh.positions[mesh.triangles].reshape(-1, 3) / np.sqrt(0.75)
    np.testing.assert_allclose(found, expected, atol=1e-6)  # whichever way the faces are cut: angles, not areas


def test_smooth_normals_of_a_fine_torus():
    mesh = torus(160, 80)
    exact = mesh.normals.at_corners()
    cosines = (smooth(mesh).at_corners() * exact).sum(axis=-1)
    assert np.degrees(np.arccos(np.clip(cosines, -1, 1))).max() < 0.5


def test_normals_of_the_file_stay_as_they_are():
    mesh = torus(8, 6)
    np.testing.assert_array_equal(with_normals(mesh).normals.values, mesh.normals.values)


def test_normals_are_made_unit():
    mesh = torus(8, 6)
    longer = replace(mesh, normals=CornerValues(mesh.normals.values * 3, mesh.normals.corners))
    np.testing.assert_allclose(with_normals(longer).normals.values, mesh.normals.values, atol=1e-6)


def test_missing_and_zero_normals_become_smooth_ones():
    mesh = merge([torus(8, 6), plane()], "both")  # the plane has no normals
    found = with_normals(mesh).normals.at_corners()
    np.testing.assert_allclose(found[-2:], np.broadcast_to([0, 0, 1], (2, 3, 3)), atol=1e-6)
    torn = torus(8, 6)
    values = torn.normals.values.copy()
    values[10] = 0
    mended = with_normals(replace(torn, normals=CornerValues(values, torn.normals.corners))).normals.at_corners()
    assert np.abs(np.linalg.norm(mended, axis=-1) - 1).max() < 1e-5


def test_averaged_directions_close_hard_edges():
    mesh = cube()
    found = averaged(mesh)
    for corner in np.unique(mesh.positions, axis=0):
        here = found[(mesh.positions[mesh.triangles] == corner).all(axis=-1)]
        assert len(np.unique(here, axis=0)) == 1
    np.testing.assert_allclose(found, mesh.positions[mesh.triangles] / np.sqrt(0.75), atol=1e-6)


def test_averaged_falls_back_where_normals_cancel():
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    both = np.array([[0, 1, 2], [0, 2, 1]], np.int32)
    values = np.array([[0, 0, 1], [0, 0, -1]], np.float32)
    sheet = Mesh("sheet", points, both, normals=CornerValues(values, np.array([[0] * 3, [1] * 3], np.int32)))
    assert np.isfinite(averaged(sheet)).all()


def test_face_normals_of_flat_triangles_are_zero():
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    found = face_normals(points, np.array([[0, 1, 2], [0, 1, 1]], np.int32))
    assert found.tolist() == [[0, 0, 1], [0, 0, 0]]
