"""Position gradient: where a texel's hit lies in the box around the sculpt."""

import numpy as np

from ..arrays import F32, Any_
from ..ground import Ground
from ..mesh import Mesh
from ..room import in_bands
from .derived import Derived

KEY, LABEL = "position", "Position"
REASON = "Where in the sculpt's box a texel lies: x, y and z as red, green and blue."
RAW, GROUP, SPACE = "position", "", "linear"
BACKGROUND = (0.0, 0.0, 0.0)


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 3) float32: (p - corner) / size. Facts: the box, scene units."""
    assert raw is not None
    low, high = ground.warm.once("box", str(ground.sculpt.serial), lambda: _box(ground.sculpt.mesh))
    size = np.maximum(high - low, 1e-30)
    image = in_bands(lambda rows: np.clip((rows - low) / size, 0, 1), raw, 3)
    image[ground.cast.struck == 0] = 0
    return Derived(image, {"black": low.tolist(), "white": high.tolist(), "unit": "scene units"}, raw.copy)


def _box(mesh: Mesh) -> tuple[F32, F32]:
    """Lowest and highest corner of what triangles use."""
    used = np.zeros(len(mesh.positions), bool)
    used[mesh.triangles] = True
    points = mesh.positions[used]
    return points.min(axis=0), points.max(axis=0)
