"""What of a region is noticed."""

from types import SimpleNamespace

import numpy as np
import pytest

from inkwell_cast.core import flaws
from inkwell_cast.core.flaws.flaw import FlawRows
from inkwell_cast.core.flaws.visible import RowsSeen, contrast


@pytest.mark.parametrize(("turned", "told"), [(11.0, False), (14.0, True)])
def test_a_patch_of_a_visible_size_that_turns_light_by_a_fifth_is_never_harmless(turned, told):
    """It adds less than what is told else: 14° over 1.6 of 10,000 pixels is 0.0022°."""
    pixels, total = np.full(40, 4.0), 1e6
    looks = RowsSeen(np.full(40, turned), np.full(40, turned), turned * pixels / total, pixels)
    seen = SimpleNamespace(looks=looks, struck=np.ones(40), visible=SimpleNamespace(total=total))
    assert flaws._is_seen(seen, FlawRows(np.arange(40), None), np.arange(40), 1) is told
    np.testing.assert_allclose(contrast(np.array([-3.0, 0.0, 30.0, 120.0])), [0, 0, 0.5, 1])
