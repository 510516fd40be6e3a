"""Highs in other axes, units or places, recognised and laid back."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.checks.apply_remedy import apply
from inkwell_cast.core.mesh.alignment import axes_of, every_turn, turn_of
from inkwell_cast.core.mesh.fixes import treated
from inkwell_cast.core.mesh.mesh import merge, values_at_corners
from inkwell_cast.core.mesh.transforms import transformed
from inkwell_cast.core.settings.files import FileSettings
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import cube, torus
from .rings import found, ring


def test_an_alignment_snaps_to_a_change_of_units():
    large = replace(ring(96, "ring_high"), positions=ring(96).positions * np.float32(100))
    fix = found(None, large)["place"].fix
    assert (fix.scale, fix.move) == (0.01, (0.0, 0.0, 0.0))
    apart = replace(ring(96, "ring_high"), positions=ring(96).positions + np.float32(40))
    assert found(None, apart)["place"].fix.move == pytest.approx((-40, -40, -40), abs=0.05)


def figure(name="figure_high"):
    """A body that no turn and no mirror brings onto itself: three boxes of different sizes, apart."""
    boxes = [cube(0.6, (0, 0, 0)), cube(0.4, (0.9, 0.1, 0)), cube(0.25, (0.1, 0.55, 0.7))]
    made = merge([replace(box, uvs=(), normals=None) for box in boxes], name)
    return replace(made, object_names=(name,), objects=np.zeros(len(made.triangles), np.int32))


def figure_low():
    boxes = [cube(0.6, (0, 0, 0)), cube(0.4, (0.9, 0.1, 0)), cube(0.25, (0.1, 0.55, 0.7))]
    for n, box in enumerate(boxes):
        uvs = box.uvs[0].at_corners() / 2 + np.array([n % 2 / 2, n // 2 / 2], np.float32)
        boxes[n] = replace(box, uvs=(values_at_corners(uvs),))
    made = merge(boxes, "figure_low")
    return replace(made, object_names=("figure_low",), objects=np.zeros(len(made.triangles), np.int32))


@pytest.mark.parametrize(
    ("turn", "scale"),
    [(turn, (1.0, 100.0)[n % 2]) for n, turn in enumerate([*every_turn()[1:24:5], *every_turn()[24::6]])],
)
def test_a_high_in_other_axes_or_units_is_recognised_and_laid_back(turn, scale):
    matrix = np.eye(4)
    matrix[:3, :3] = axes_of(turn) * scale
    exported = transformed(figure(), matrix)
    finding = found(figure_low(), exported)["place"]
    assert finding.fix
    assert "surfaces would lie 0.0%" in finding.what
    shown = transformed(exported, np.array(finding.fix.change).reshape(4, 4))  # what the page shows before it is chosen
    np.testing.assert_allclose(shown.positions, figure().positions, atol=1e-4)
    fixed = apply(Recipe(), finding.fix)
    again = treated(exported, fixed.files["figure_high"])
    np.testing.assert_allclose(again.positions, figure().positions, atol=1e-4)
    assert "place" not in found(figure_low(), exported, fixed)
    assert "winding" not in found(figure_low(), exported, fixed)


def test_nothing_is_moved_that_would_not_fit_or_fits_already():
    assert "place" not in found(figure_low(), figure())
    other = replace(torus(60, 30, name="figure_high"), positions=torus(60, 30).positions + np.float32(40))
    finding = found(figure_low(), replace(other, object_names=("figure_high",)))["place"]
    assert finding.fix is None
    assert "axes and scale" in finding.remedy


def test_a_turn_goes_into_words_and_back():
    for turn in every_turn():
        assert turn_of(axes_of(turn)) == turn
    assert len(set(every_turn())) == 48
    with pytest.raises(ValueError, match="names an axis twice"):
        FileSettings(turn="+x+x+y")
