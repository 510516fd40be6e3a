"""What is wrong with meshes: what stops a bake, and what an artist should hear of afterwards."""

import numba
import numpy as np

from .cast import Cast
from .errors import InputProblem
from .low import Low
from .mesh import Mesh
from .recipe import MapKey


def refuse_unusable(lows: list[Mesh], highs: list[Mesh]) -> None:
    """Raise InputProblem for meshes that cannot be baked at all."""
    if not lows:
        raise InputProblem("The piece", "There is no low to bake onto.", "Add the low-poly mesh.")
    if not highs:
        raise InputProblem(
            lows[0].name, "There is no high for it to receive from.", "Add the sculpt that belongs to this low."
        )
    for mesh in [*lows, *highs]:
        refuse_empty(mesh)
    for mesh in lows:
        _refuse_without_uvs(mesh)


def refuse_empty(mesh: Mesh) -> None:
    """Raise InputProblem for a mesh in which no triangle has an area."""
    if len(mesh.triangles) == 0:
        raise InputProblem(mesh.name, "It holds no triangles.", "Export the mesh with its faces.")
    if zero_area(mesh) == len(mesh.triangles):
        raise InputProblem(
            mesh.name,
            f"All of its {len(mesh.triangles):,} triangles have zero area.",
            "Check the scale it was exported with.",
        )


def zero_area(mesh: Mesh) -> int:
    """How many triangles have no area at all."""
    return int(_zero_area(mesh.positions, mesh.triangles))


@numba.njit(cache=True, nogil=True, parallel=True)
def _zero_area(positions, triangles):  # type: ignore[no-untyped-def]
    count = 0
    for f in numba.prange(len(triangles)):
        a, b, c = triangles[f, 0], triangles[f, 1], triangles[f, 2]
        ax, ay, az = np.float64(positions[a, 0]), np.float64(positions[a, 1]), np.float64(positions[a, 2])
        ux, uy, uz = positions[b, 0] - ax, positions[b, 1] - ay, positions[b, 2] - az
        vx, vy, vz = positions[c, 0] - ax, positions[c, 1] - ay, positions[c, 2] - az
        if uy * vz == uz * vy and uz * vx == ux * vz and ux * vy == uy * vx:
            count += 1
    return count


def _refuse_without_uvs(mesh: Mesh) -> None:
    remedy = "Unwrap it and export it with its UVs."
    if not mesh.uvs:
        raise InputProblem(mesh.name, "It has no UVs, so there is nowhere to bake to.", remedy)
    lacking = (mesh.uvs[0].corners < 0).any(axis=1)
    if lacking.any():
        first = int(np.flatnonzero(lacking)[0])
        raise InputProblem(mesh.name, f"{int(lacking.sum()):,} triangles have no UVs.", remedy, mesh.object_of(first))


def warnings_after(low: Low, high: Mesh, cast: Cast, keys: list[MapKey]) -> list[str]:
    """Sentences about what a finished bake of the maps `keys` could not do."""
    said = []
    if low.grid.outside:
        said.append(f"{low.grid.outside:,} triangles of the low lie outside the UV tile and were not baked.")
    if cast.texels == 0:
        said.append("No triangle of the low covers a sample of the sheet; check the UVs or choose a larger sheet.")
    elif cast.missed == cast.texels:
        said.append(
            "No ray struck the sculpt; low and high may not share a place or a scale, or the reach is too small."
        )
    if cast.contested and "normal_object" in keys:
        said.append(
            "Parts of the low share their place on the sheet. An object-space normal map can be right on only one of "
            "them; use the tangent-space map for mirrored parts."
        )
    flat = zero_area(low.mesh)
    if flat:
        said.append(f"{flat:,} triangles of the low have zero area and receive nothing.")
    flat = zero_area(high)
    if flat:
        said.append(f"{flat:,} triangles of the high have zero area; rays pass them by.")
    return said
