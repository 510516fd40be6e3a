"""The demo pieces are what they promise."""

import numpy as np

from inkwell_cast.demo import inkstand


def test_the_demo_inkstand_is_what_it_promises():
    low, high = inkstand.build()
    assert 2_000 < len(low.triangles) < 5_000
    assert 400_000 < len(high.triangles) < 1_000_000
    assert set(low.material_names) == set(inkstand.MATERIALS)
    assert all(name.endswith("_low") for name in low.object_names)
    assert all(name.endswith("_high") or "_float_" in name for name in high.object_names)
    assert {"well_left_low", "well_right_low", "lid_left_low", "hinge_right_low", "plate_low"} <= set(low.object_names)
    uv = low.uvs[0].at_corners()
    assert uv.min() > 0
    assert uv.max() < 1
    assert low.uvs[0].complete
    np.testing.assert_allclose(low.bounds, high.bounds, atol=1.0)
