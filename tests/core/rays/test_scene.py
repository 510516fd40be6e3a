"""Building a scene: what its caller raises from under the library comes out."""

import pytest

from inkwell_cast.core.base.errors import Cancelled
from inkwell_cast.core.rays.embree import TOLD_ABOVE, Scene, Vertices

from ...shapes import torus


@pytest.mark.parametrize("large", [False, True])
def test_what_stops_the_caller_under_the_library_stops_the_building(large):
    mesh = torus(1200, 500) if large else torus(300, 150)
    assert (len(mesh.triangles) > TOLD_ABOVE) == large

    def pressed():
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        Scene(Vertices(mesh.positions), mesh.triangles, cancelled=pressed)
    with pytest.raises(Cancelled):
        Scene(Vertices(mesh.positions), mesh.triangles, cancelled=lambda: True)
