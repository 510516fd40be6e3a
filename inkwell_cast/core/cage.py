"""The cage: where rays start. Here it is the low, pushed outward along averaged normals."""

from dataclasses import dataclass

import numpy as np

from .arrays import F32
from .mesh import Mesh
from .normals import averaged


@dataclass(frozen=True, slots=True)
class Cage:
    """offsets (T, 3, 3) float32: from each corner of the low to the cage; `inward` how far rays go below the low."""

    offsets: F32
    inward: float


def push_out(low: Mesh, outward: float, inward: float) -> Cage:
    """The low pushed outward by `outward` along its averaged normals; both reaches in scene units.

    Where the outward reach is zero the offsets still carry the direction, shrunk below any ray's precision.
    """
    smallest = 1e-6 * max(low.diagonal, 1e-20)
    return Cage(np.asarray(averaged(low) * np.float32(max(outward, smallest)), np.float32), inward)
