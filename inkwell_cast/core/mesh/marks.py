"""Triangles to show in both views, with hatching."""

from dataclasses import dataclass, field

import numpy as np

from ..base.array_types import F32, AnyArray
from .mesh import Mesh

MOST_MARKS = 3000


@dataclass(frozen=True, slots=True)
class Marks:
    """corners (N, 3, 3) float32, scene units; uvs (N, 3, 2) float32, the same on the sheet, empty if not of a low."""

    corners: F32 = field(default_factory=lambda: np.zeros((0, 3, 3), np.float32))
    uvs: F32 = field(default_factory=lambda: np.zeros((0, 3, 2), np.float32))
    on_low: bool = False

    @property
    def place(self) -> tuple[list[float], float] | None:
        """Centre and radius of the box around them, or None."""
        if not len(self.corners):
            return None
        flat = self.corners.reshape(-1, 3).astype(np.float64)
        low, high = flat.min(axis=0), flat.max(axis=0)
        return ((low + high) / 2).tolist(), float(np.linalg.norm(high - low) / 2)


def marks_of(mesh: Mesh, chosen: AnyArray, uvs: F32 | None, on_low: bool) -> Marks:
    """At most `MOST_MARKS` triangles, spread evenly: those marked (T,), or marked in a corner or edge (T, 3)."""
    rows = np.flatnonzero(chosen) // max(chosen.size // max(len(chosen), 1), 1)
    rows = rows[np.diff(rows, prepend=-1) > 0]
    if len(rows) > MOST_MARKS:
        rows = rows[np.linspace(0, len(rows) - 1, MOST_MARKS).astype(np.int64)]
    flat = np.zeros((0, 3, 2), np.float32) if uvs is None else uvs[rows]
    return Marks(mesh.positions[mesh.triangles[rows]], flat, on_low)
