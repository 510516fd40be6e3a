"""The tangent frame at a texel, the step between object space and tangent space, and which way green points.

At a texel, N and T are interpolated and not normalised, B = w (N x T), and the stored vector x solves [T B N] x = n.
Right-handed, V upwards; other forms by the settings of the basis (`settings/basis.py`).
"""

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.errors import InputProblem
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..mesh.mesh import Mesh
from ..settings.basis import Basis
from .mikktspace import mikktspace

PER_VERTEX, UNIT, LEFT = 1, 2, 4  # bits of a form: where B is made, N, T and B of length 1 at the texel, which hand


@kernel
def frame(
    b0: float, b1: float, b2: float, normals: AnyArray, tangents: AnyArray, form: int
) -> tuple[float, float, float, float, float, float, float, float, float]:
    """N, T and B of one triangle at barycentrics b, from its corners' `normals (3, 3)` and `tangents (3, 4)`.

    B = w N x T is made of what was interpolated, or interpolated from the corners' own; see the bits of `form`.
    """
    nx = b0 * normals[0, 0] + b1 * normals[1, 0] + b2 * normals[2, 0]
    ny = b0 * normals[0, 1] + b1 * normals[1, 1] + b2 * normals[2, 1]
    nz = b0 * normals[0, 2] + b1 * normals[1, 2] + b2 * normals[2, 2]
    tx = b0 * tangents[0, 0] + b1 * tangents[1, 0] + b2 * tangents[2, 0]
    ty = b0 * tangents[0, 1] + b1 * tangents[1, 1] + b2 * tangents[2, 1]
    tz = b0 * tangents[0, 2] + b1 * tangents[1, 2] + b2 * tangents[2, 2]
    if form & UNIT:
        nx, ny, nz = _unit_of(nx, ny, nz)
        tx, ty, tz = _unit_of(tx, ty, tz)
    w = -tangents[0, 3] if form & LEFT else tangents[0, 3]
    bx, by, bz = w * (ny * tz - nz * ty), w * (nz * tx - nx * tz), w * (nx * ty - ny * tx)
    if form & PER_VERTEX:
        bx = by = bz = 0.0
        for k in range(3):
            n, t, b = normals[k], tangents[k], b0 if k == 0 else b1 if k == 1 else b2
            v = -b * t[3] if form & LEFT else b * t[3]
            bx += v * (n[1] * t[2] - n[2] * t[1])
            by += v * (n[2] * t[0] - n[0] * t[2])
            bz += v * (n[0] * t[1] - n[1] * t[0])
        if form & UNIT:
            bx, by, bz = _unit_of(bx, by, bz)
    return nx, ny, nz, tx, ty, tz, bx, by, bz


@kernel
def _unit_of(x: float, y: float, z: float) -> Vector:
    length = np.sqrt(x * x + y * y + z * z)
    return (x / length, y / length, z / length) if length > 0 else (x, y, z)


def green_sign(basis: Basis) -> float:
    """1 where a bright green leans up the sheet, -1 where the basis turns green over."""
    return 1.0 if basis.green == "up" else -1.0


def form_of(basis: Basis) -> int:
    """The bits of a form, as `frame` takes them."""
    return (
        (PER_VERTEX if basis.bitangent == "vertex" else 0)
        | (UNIT if basis.lengths == "unit" else 0)
        | (LEFT if basis.hand == "left" else 0)
    )


def tangents_for(mesh: Mesh, channel: int, basis: Basis) -> F32:
    """Tangents (T, 3, 4) as a basis has them: MikkTSpace, or those of the file. Raises InputProblem for none there."""
    if basis.tangents == "mikktspace":
        return mikktspace(mesh, channel)
    lacking = len(mesh.triangles) if mesh.tangents is None else int((mesh.tangents.corners < 0).any(axis=1).sum())
    if mesh.tangents is None or lacking:
        raise InputProblem(
            mesh.name,
            f"{lacking:,} triangles of the low have no tangents in their file.",
            "Export it with tangents, or choose MikkTSpace in the step Basis.",
        )
    return mesh.tangents.at_corners()


@kernel
def to_tangent(n: AnyArray, f: tuple[float, float, float, float, float, float, float, float, float]) -> Vector:
    """Solve [T B N] x = n for the frame `f` and normalise; the frame's normal where the frame is flat."""
    nx, ny, nz, tx, ty, tz, bx, by, bz = f
    ax, ay, az = by * nz - bz * ny, bz * nx - bx * nz, bx * ny - by * nx  # B x N
    det = tx * ax + ty * ay + tz * az
    if abs(det) < 1e-12:
        return 0.0, 0.0, 1.0
    x = (n[0] * ax + n[1] * ay + n[2] * az) / det
    y = (n[0] * (ny * tz - nz * ty) + n[1] * (nz * tx - nx * tz) + n[2] * (nx * ty - ny * tx)) / det
    z = (n[0] * (ty * bz - tz * by) + n[1] * (tz * bx - tx * bz) + n[2] * (tx * by - ty * bx)) / det
    length = np.sqrt(x * x + y * y + z * z)
    if length == 0:
        return 0.0, 0.0, 1.0
    return x / length, y / length, z / length


@kernel
def to_object(
    x: float, y: float, z: float, f: tuple[float, float, float, float, float, float, float, float, float]
) -> Vector:
    """The unit normal that a receiver gets back: normalize(x T + y B + z N)."""
    nx, ny, nz, tx, ty, tz, bx, by, bz = f
    ox, oy, oz = x * tx + y * bx + z * nx, x * ty + y * by + z * ny, x * tz + y * bz + z * nz
    length = np.sqrt(ox * ox + oy * oy + oz * oz)
    if length == 0:
        return 0.0, 0.0, 0.0
    return ox / length, oy / length, oz / length
