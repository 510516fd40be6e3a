"""Creases: rays that part at the corners of one edge alone."""

from dataclasses import replace

import numpy as np

from inkwell_cast.core.cage.ray_directions import directions_of
from inkwell_cast.core.mesh.mesh import corner_positions
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.regions import Crease

from ...shapes import hard_cube
from ..bakes import baked


def test_rays_part_at_the_corners_of_one_edge_and_stay_averaged_elsewhere():
    low, high = hard_cube(1.0), replace(hard_cube(1.1), uvs=())
    own = Reach(unit="scene", outward=0.2, inward=0.2)

    def ways(**more):
        return directions_of(baked(low, high, ["normal"], size=64, reach_of_all=own, **more).assembly)

    def ball(way):
        return Crease(centre=(0.5, 0.5, 0), radius=0.51, directions=way)  # the edge between +x and +y, along z

    points, plain, parted = corner_positions(low), ways(), ways(creases=[ball("split")])
    on = np.abs(points[..., :2] - 0.5).max(axis=2) < 1e-6
    np.testing.assert_array_equal(parted[~on], plain[~on])
    np.testing.assert_allclose(parted[on], low.normals.at_corners()[on], atol=1e-6)
    np.testing.assert_allclose(ways(creases=[ball("split"), ball("averaged")]), plain, atol=1e-6)
