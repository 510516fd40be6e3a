"""What of the sculpt has no low beside it, and what cures that."""

from dataclasses import replace

from inkwell_cast.core.checks.apply_remedy import apply
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import cube
from .rings import found, ring, with_shells


def test_what_has_no_low_is_left_out_shell_by_shell_or_floated_as_a_whole():
    """A horn stands off the low; a bolt beside it and what lies inside it do not."""
    high = with_shells(ring(96, "ring_high"), (0, 0, 1.0), (2.0, 0, 0.75), (2.0, 0, 0))
    finding = found(None, high)["lacking"]
    assert "(1 shell) has no low" in finding.what
    assert [remedy.words for remedy in finding.remedies] == ["Leave it out"]
    left = assemble(apply(Recipe(), finding.fix), BakeMeshes([ring()], [high])).files["ring_high"]
    assert len(left.triangles) == len(high.triangles) - 12
    horn = replace(cube(0.2, (0, 0, 1.0), "horn_high"), object_names=("ring_high_horn",), uvs=())
    whole = found(None, ring(96, "ring_high"), others=[horn])["lacking"]
    assert [remedy.words for remedy in whole.remedies] == ["Leave it out", "Take it as a floater"]
    for remedy in whole.remedies:
        assert "lacking" not in found(None, ring(96, "ring_high"), apply(Recipe(), remedy), others=[horn])
