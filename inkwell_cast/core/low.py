"""The low made ready for a bake: normals, tangents and its triangles laid on the sheet."""

from dataclasses import dataclass

import numpy as np

from .arrays import F32
from .basis import mikktspace
from .mesh import Mesh
from .normals import with_normals
from .sheet import Grid, grid


@dataclass(frozen=True, slots=True)
class Low:
    """mesh with normals; normals (T, 3, 3) and tangents (T, 3, 4) float32 corner by corner; grid of the sheet."""

    mesh: Mesh
    normals: F32
    tangents: F32
    grid: Grid


def prepare_low(mesh: Mesh, width: int, height: int, samples: int) -> Low:
    """A mesh with UVs, ready for a sheet of that size."""
    mesh = with_normals(mesh)
    if mesh.normals is None or not mesh.uvs:
        raise ValueError(f"prepare_low: {mesh.name} has no UVs")
    normals = np.ascontiguousarray(mesh.normals.at_corners())
    return Low(mesh, normals, mikktspace(mesh), grid(mesh.uvs[0].at_corners(), width, height, samples))
