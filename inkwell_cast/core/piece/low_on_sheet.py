"""The low on one of its sheets: triangles, normals, tangents and their place on the grid."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32
from ..base.records import Record, record_kind, record_of
from ..mesh.mesh import Mesh
from ..tangent.mikktspace import mikktspace
from ..uv.layout import SheetPlan
from ..uv.rasterise import GRID, Grid, grid

LOW = record_kind({"grid": GRID, "normals": (np.float32, 3, 3), "tangents": (np.float32, 3, 4)})


@dataclass(frozen=True, slots=True)
class Low:
    """What a sheet shows of the low, triangle by triangle as placed on it.

    mesh is the whole low; triangles (P,) int32 its rows; normals (P, 3, 3) and tangents (P, 3, 4) float32 corner by
    corner; grid places them. What a cast calls `low_triangle` counts these P.
    """

    mesh: Mesh
    triangles: I32
    normals: F32
    tangents: F32
    grid: Grid

    @property
    def record(self) -> Record:
        """Of the kind `LOW`, for kernels."""
        return record_of(LOW, grid=self.grid.record, normals=self.normals, tangents=self.tangents)

    def texel_sides(self, corners: F64) -> F64:
        """The side of the square of surface under a texel of each of the triangles, (P,); corners are (P, 3, 3)."""
        surface = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        flat = self.grid.corners.astype(np.float64) / (self.grid.side << self.grid.shift)
        u, v = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
        texels = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0])
        return np.asarray(np.sqrt(surface / np.maximum(texels, 1e-12)))


def prepare_lows(mesh: Mesh, sheets: list[SheetPlan], channel: int, samples: int) -> list[Low]:
    """A mesh with normals and UVs, ready for its sheets."""
    if mesh.normals is None or channel >= len(mesh.uvs):
        raise ValueError(f"prepare_lows: {mesh.name} has no normals or no UV channel {channel}")
    normals, tangents = mesh.normals.at_corners(), mikktspace(mesh, channel)
    return [
        Low(
            mesh,
            s.triangles,
            np.ascontiguousarray(normals[s.triangles]),
            tangents[s.triangles],
            grid(s.uvs, s.width, s.height, samples),
        )
        for s in sheets
    ]
