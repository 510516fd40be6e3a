"""Position: the mean place of a texel's hits, scene units."""

import numpy as np

from ..arrays import Any_
from ..cast import Hits
from ..ground import Ground
from ..recipe import Recipe
from .texels import Cancel, Progress, mean_of_corners, over_tiles

CHANNELS, KIND = 3, np.float32


def depends(recipe: Recipe) -> object:
    return ()


def cost(recipe: Recipe) -> float:
    return 0.1


def prepare(ground: Ground) -> None:
    return None


def gather(ground: Ground, hits: Hits, ready: None, out: Any_, progress: Progress, cancelled: Cancel) -> None:
    mesh = ground.sculpt.mesh
    over_tiles(hits, ground.low.grid, mean_of_corners, (mesh.positions, mesh.triangles, out), progress, cancelled)
