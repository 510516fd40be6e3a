"""What floaters hide, as a layer of its own: multiplied onto the occlusion they shade too."""

from ..arrays import Any_
from ..ground import Ground
from .derived import Derived

KEY, LABEL = "floaters", "Occlusion of floaters"
REASON = "What floaters alone would hide of the sky; the other occlusion leaves them out."
RAW, GROUP, SPACE = "floaters", "occlusion", "linear"
BACKGROUND = (1.0,)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 1) float32: the share that floaters leave free; white where nothing was struck. Facts: their number."""
    assert raw is not None
    free = 1 - raw
    free[ground.cast.struck == 0] = 1
    return Derived(free, {"floaters": sum(len(pair.floats) for pair in ground.assembly.paired.pairs)})
