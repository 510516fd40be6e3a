"""Carried colour: the sculpt's vertex colours, or its materials' colours where it has none; linear RGB, 0 to 1."""

import numpy as np

from ..arrays import F32, I32, Any_
from ..cast import Hits
from ..ground import Ground
from ..recipe import Recipe
from .texels import Cancel, Progress, mean_of_corners, over_tiles

CHANNELS, KIND = 3, np.float32


def depends(recipe: Recipe) -> object:
    return ()


def cost(recipe: Recipe) -> float:
    return 0.1


def prepare(ground: Ground) -> tuple[F32, I32]:
    """Values (N, 3) and the row of each corner (T, 3)."""
    mesh = ground.sculpt.mesh
    own = np.repeat(mesh.materials[:, None], 3, axis=1).astype(np.int32)
    if mesh.colors is None:
        return np.ascontiguousarray(mesh.material_colors), own
    count = len(mesh.colors.values)
    rows = np.where(mesh.colors.corners < 0, own + count, mesh.colors.corners).astype(np.int32)
    return np.concatenate([mesh.colors.values[:, :3], mesh.material_colors]).astype(np.float32), rows


def gather(
    ground: Ground, hits: Hits, ready: tuple[F32, I32], out: Any_, progress: Progress, cancelled: Cancel
) -> None:
    over_tiles(hits, ground.low.grid, mean_of_corners, (*ready, out), progress, cancelled)
