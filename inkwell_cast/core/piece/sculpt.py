"""The sculpt: the highs of every pair in one mesh, and the scenes that rays strike."""

from dataclasses import dataclass, field
from itertools import count

import numpy as np

from ..base.array_types import I32, I64, AnyArray
from ..base.records import Record, record_kind, record_of
from ..mesh.mesh import Mesh
from ..rays.embree import Scene

SCULPT = record_kind(
    {
        "tracers": (np.uint64, 2),
        "first": np.int64,
        "normals": (np.float32, 3),
        "normal_rows": (np.int32, 3),
        "positions": (np.float32, 3),
        "triangles": (np.int32, 3),
        "objects": np.int32,
    }
)


@dataclass(frozen=True, slots=True)
class Sculpt:
    """The highs pair after pair.

    mesh with normals; first (P + 1,) int64, where each pair's triangles begin; tracers (P, 2) uint64 for `hit_along`;
    keys name the part of every object of the mesh; quick is how the scenes are built, see `rays.embree`. No other
    sculpt of this process has the same serial, but for this one with scenes of another form, so that what is computed
    of one is never taken for another's.
    """

    mesh: Mesh
    first: I64
    tracers: AnyArray
    scenes: list[Scene]
    keys: tuple[str, ...]
    quick: bool = False
    serial: int = field(default_factory=count().__next__)

    @property
    def record(self) -> Record:
        """Of the kind `SCULPT`, for kernels. Raises ValueError for a sculpt without normals."""
        mesh, normals = self.mesh, self.mesh.normals
        if normals is None:
            raise ValueError("Sculpt.record: the sculpt has no normals; call with_normals first")
        return record_of(
            SCULPT,
            tracers=self.tracers,
            first=self.first,
            normals=normals.values,
            normal_rows=normals.corners,
            positions=mesh.positions,
            triangles=mesh.triangles,
            objects=mesh.objects,
        )

    def keys_of(self, triangles: I64 | I32) -> list[str]:
        """The parts that some triangles belong to, the most frequent one first."""
        objects, times = np.unique(self.mesh.objects[triangles], return_counts=True)
        return [self.keys[n] for n in objects[np.argsort(-times, kind="stable")]]
