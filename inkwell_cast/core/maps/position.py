"""Position gradient: where the mean place of a texel's hits lies in the box around the sculpt."""

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.disk_arrays import in_bands
from ..base.progress import Cancel, ShareDone
from ..cast.context import Context
from ..cast.hits import Hits
from ..mesh.surface_samples import box_around
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..settings.recipe import Recipe
from .hits_of_tile import mean_of_corners, over_tiles
from .value_range import Derived

KEY, LABEL = "position", "Position"
REASON = "Where in the sculpt's box a texel lies: x, y and z as red, green and blue."
LAYER, GROUP, SPACE = "position", "", "linear"
BACKGROUND = (0.0, 0.0, 0.0)
BOX = Slot[tuple[F32, F32]]()


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32: (p - corner) / size. Facts: the box, scene units."""
    assert layer is not None
    low, high = box_of(context.sculpt, context.warm)
    size = np.maximum(high - low, 1e-30)
    image = in_bands(lambda rows: np.clip((rows - low) / size, 0, 1), layer, 3)
    image[context.cast.struck == 0] = 0
    return Derived(image, {"black": low.tolist(), "white": high.tolist(), "unit": "scene units"}, layer.copy)


def box_of(sculpt: Sculpt, warm: Warm) -> tuple[F32, F32]:
    """Lowest and highest corner (3,) of the box around a sculpt, scene units."""
    return warm.once(BOX, str(sculpt.serial), lambda: box_around(sculpt.mesh.positions, sculpt.mesh.triangles))


CHANNELS, KIND = 3, np.float32


def cost(recipe: Recipe) -> float:
    return 0.1


def prepare(context: Context) -> None:
    return None


def gather(context: Context, hits: Hits, ready: None, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> None:
    mesh = context.sculpt.mesh
    over_tiles(hits, context.low.grid, mean_of_corners, (mesh.positions, mesh.triangles, out), progress, cancelled)
