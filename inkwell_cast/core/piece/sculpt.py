"""The sculpt: the highs of every pair in one mesh, and the scenes that rays strike."""

from dataclasses import dataclass, field
from itertools import count

import numpy as np

from ..base.array_types import I32, I64, Any_
from ..mesh.mesh import Mesh
from ..rays.embree import Scene


@dataclass(frozen=True, slots=True)
class Sculpt:
    """The highs pair after pair.

    mesh with normals; first (P + 1,) int64, where each pair's triangles begin; tracers (P, 2) uint64 for `first_hit`;
    keys name the part of every object of the mesh. No other sculpt of this process has the same serial, so that what is
    computed of one is never taken for another's.
    """

    mesh: Mesh
    first: I64
    tracers: Any_
    scenes: list[Scene]
    keys: tuple[str, ...]
    serial: int = field(default_factory=count().__next__)

    def keys_of(self, triangles: I64 | I32) -> list[str]:
        """The parts that some triangles belong to, the most frequent one first."""
        found, times = np.unique(self.mesh.objects[triangles], return_counts=True)
        return [self.keys[n] for n in found[np.argsort(-times, kind="stable")]]
