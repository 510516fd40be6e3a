import numpy as np

from inkwell_cast.core.rays.nearest_surface import NearestSurface

from ...shapes import cube, plane


def test_the_distance_is_that_from_the_surface_however_long_its_triangles():
    """From a plane of two triangles it is the height, wherever; from a cube the closed form of a box."""
    rng = np.random.default_rng(5)
    places = np.stack([*rng.uniform(0, 1, (2, 500)), rng.uniform(-2, 2, 500)], axis=1)
    flat, box = plane(), cube()
    assert np.allclose(NearestSurface.of([(flat.positions, flat.triangles)]).at(places)[0], np.abs(places[:, 2]))
    away = np.abs(places) - 0.5
    form = np.where((away > 0).any(axis=1), np.linalg.norm(np.maximum(away, 0), axis=1), -away.max(axis=1))
    assert np.allclose(NearestSurface.of([(box.positions, box.triangles)]).at(places)[0], form, atol=1e-6)


def test_where_there_is_no_surface_it_is_infinite():
    none = np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32)
    assert np.isinf(NearestSurface.of([none]).at(np.zeros((3, 3)))[0]).all()
