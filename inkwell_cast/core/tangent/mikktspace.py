"""MikkTSpace: tangents for the triangles of a mesh, as its reference makes them.

M. Mikkelsen, "Simulation of Wrinkled Surfaces Revisited", 2008, and the reference that the paper's author published.
Corners are grouped by shared position, normal and UV; triangles of opposite UV orientation stay in groups of their own;
within a group the tangents are averaged with the corner angles; triangles without area take the tangent of a good
neighbour. Arithmetic is float32 in the order of the reference.
"""

import numpy as np

from ..base.array_types import F32, I8, I32, I64, Bool
from ..base.kernel_types import Narrow
from ..base.kernels import kernel
from ..mesh.mesh import Mesh, corner_positions
from ..mesh.normals import weld

TINY = np.float32(1.17549435e-38)  # FLT_MIN of the reference
KEEPS_ORIENTATION = 1
JOINS_ANY = 2


def mikktspace(mesh: Mesh, channel: int = 0) -> F32:
    """Tangents of every corner: (T, 3, 4) float32, xyz unit tangent along U and w the sign of the bitangent.

    The mesh needs unit normals and a UV channel at every corner (`normals.with_normals`). Objects are kept apart
    even where they touch. Source: the MikkTSpace reference, angular threshold 180 degrees.
    """
    if mesh.normals is None or channel >= len(mesh.uvs):
        raise ValueError(f"mikktspace: {mesh.name} needs normals and UV channel {channel}")
    positions = corner_positions(mesh)
    normals = mesh.normals.at_corners()
    uvs = mesh.uvs[channel].at_corners()
    part = np.repeat(mesh.objects, 3).astype(np.float32)[:, None]
    rows = np.concatenate([positions.reshape(-1, 3), normals.reshape(-1, 3), uvs.reshape(-1, 2), part], axis=1)
    corners = weld(rows).reshape(-1, 3)
    return tangents_of(positions, normals, uvs, corners)


def tangents_of(positions: F32, normals: F32, uvs: F32, corners: I32) -> F32:
    """MikkTSpace of triangles given corner by corner; `corners (T, 3)` names equal corners by one number."""
    p = positions
    flat = (p[:, 0] == p[:, 1]).all(axis=1) | (p[:, 0] == p[:, 2]).all(axis=1) | (p[:, 1] == p[:, 2]).all(axis=1)
    out = np.zeros((len(p), 3, 4), np.float32)
    out[..., 0], out[..., 3] = 1, -1
    good = np.flatnonzero(~flat)
    if len(good):
        c = np.ascontiguousarray(corners[good])
        args = (positions[good], normals[good], uvs[good], c)
        along_u, along_v, flags = _derivatives(args[0], args[2])
        group_of, group_flag, count = _group(c, _neighbours(c), flags)
        out[good] = _average(*args, along_u, along_v, flags, group_of, group_flag, count)
    _lend(out, corners, flat)
    return out


@kernel
def _length(x: float, y: float, z: float) -> Narrow:
    return np.float32(np.sqrt(np.float32(x * x + y * y + z * z)))


@kernel
def _unit(v: F32) -> None:
    """Normalise a float32 vector in place unless it is zero."""
    if abs(v[0]) > TINY or abs(v[1]) > TINY or abs(v[2]) > TINY:
        s = np.float32(np.float32(1) / _length(v[0], v[1], v[2]))
        v[0], v[1], v[2] = s * v[0], s * v[1], s * v[2]


@kernel
def _onto_plane(v: F32, n: F32, out: F32) -> None:
    """The part of v across the normal n, as a unit vector."""
    d = v[0] * n[0] + v[1] * n[1] + v[2] * n[2]
    for k in range(3):
        out[k] = v[k] - d * n[k]
    _unit(out)


@kernel
def _derivatives(positions: F32, uvs: F32) -> tuple[F32, F32, I8]:
    """Unit directions along U and V of every triangle, and its flags."""
    count = len(positions)
    along_u = np.zeros((count, 3), np.float32)
    along_v = np.zeros((count, 3), np.float32)
    flags = np.full(count, JOINS_ANY, np.int8)
    for f in range(count):
        t21x, t21y = uvs[f, 1, 0] - uvs[f, 0, 0], uvs[f, 1, 1] - uvs[f, 0, 1]
        t31x, t31y = uvs[f, 2, 0] - uvs[f, 0, 0], uvs[f, 2, 1] - uvs[f, 0, 1]
        area = t21x * t31y - t21y * t31x
        for k in range(3):
            d1, d2 = positions[f, 1, k] - positions[f, 0, k], positions[f, 2, k] - positions[f, 0, k]
            along_u[f, k] = t31y * d1 - t21y * d2
            along_v[f, k] = -t31x * d1 + t21x * d2
        if area > 0:
            flags[f] |= KEEPS_ORIENTATION
        if abs(area) > TINY:
            sign = np.float32(1) if area > 0 else np.float32(-1)
            u_length = _length(along_u[f, 0], along_u[f, 1], along_u[f, 2])
            v_length = _length(along_v[f, 0], along_v[f, 1], along_v[f, 2])
            for k in range(3):
                if u_length > TINY:
                    along_u[f, k] *= np.float32(sign / u_length)
                if v_length > TINY:
                    along_v[f, k] *= np.float32(sign / v_length)
            if np.float32(u_length / abs(area)) > TINY and np.float32(v_length / abs(area)) > TINY:
                flags[f] &= ~JOINS_ANY
    return along_u, along_v, flags


def _neighbours(corners: I32) -> I32:
    """The triangle across each of a triangle's edges, (T, 3), -1 for none; an edge joins two opposite sides."""
    count = len(corners)
    a = corners
    b = np.roll(corners, -1, axis=1)
    low, high = np.minimum(a, b).ravel(), np.maximum(a, b).ravel()
    faces = np.repeat(np.arange(count, dtype=np.int32), 3)
    order = np.lexsort((faces, high, low))
    return np.asarray(_match_edges(corners, order, low, high), np.int32)


@kernel
def _match_edges(corners: I32, order: I64, low: I32, high: I32) -> I32:
    across = np.full(corners.shape, -1, np.int32)
    for i in range(len(order)):
        e = order[i]
        f, side = e // 3, e % 3
        if across[f, side] >= 0:
            continue
        start, end = corners[f, side], corners[f, (side + 1) % 3]
        j = i + 1
        while j < len(order) and low[order[j]] == low[e] and high[order[j]] == high[e]:
            g, other = order[j] // 3, order[j] % 3
            opposite = corners[g, other] == end and corners[g, (other + 1) % 3] == start
            if opposite and across[g, other] < 0:
                across[f, side], across[g, other] = g, f
                break
            j += 1
    return across


@kernel
def _group(corners: I32, across: I32, flags: I8) -> tuple[I32, I8, int]:
    """Walk around every vertex and gather the corners that share a tangent.

    Returns the group of each corner (-1 for none), whether each group keeps orientation, and their count. `flags`
    change: a triangle without UV area takes the orientation of the first group that reaches it.
    """
    group_of = np.full(corners.shape, -1, np.int32)
    group_flag = np.zeros(corners.size, np.int8)
    stack = np.empty(2 * corners.size + 2, np.int32)
    count = 0
    for f in range(len(corners)):
        for i in range(3):
            if flags[f] & JOINS_ANY or group_of[f, i] >= 0:
                continue
            vertex, orientation = corners[f, i], flags[f] & KEEPS_ORIENTATION
            group_of[f, i] = count
            group_flag[count] = orientation
            stack[0], stack[1] = across[f, (i + 2) % 3], across[f, i]
            depth = 2
            while depth:
                depth -= 1
                t = stack[depth]
                if t < 0:
                    continue
                c = 0 if corners[t, 0] == vertex else 1 if corners[t, 1] == vertex else 2
                if group_of[t, c] >= 0:
                    continue
                if flags[t] & JOINS_ANY and group_of[t, 0] < 0 and group_of[t, 1] < 0 and group_of[t, 2] < 0:
                    flags[t] = JOINS_ANY | orientation
                if flags[t] & KEEPS_ORIENTATION != orientation:
                    continue
                group_of[t, c] = count
                stack[depth], stack[depth + 1] = across[t, (c + 2) % 3], across[t, c]
                depth += 2
            count += 1
    return group_of, group_flag, count


@kernel
def _average(
    positions: F32,
    normals: F32,
    uvs: F32,
    corners: I32,
    along_u: F32,
    along_v: F32,
    flags: I8,
    group_of: I32,
    group_flag: I8,
    count: int,
) -> F32:
    """Angle-weighted tangent of every corner over the members of its group that do not point exactly against it."""
    out = np.zeros((len(corners), 3, 4), np.float32)
    for f in range(len(corners)):
        for i in range(3):
            out[f, i, 0], out[f, i, 3] = 1, -1
    starts = np.zeros(count + 1, np.int64)
    for f in range(len(corners)):
        for i in range(3):
            if group_of[f, i] >= 0:
                starts[group_of[f, i] + 1] += 1
    for g in range(count):
        starts[g + 1] += starts[g]
    members = np.empty(starts[count], np.int64)
    fill = np.empty(count, np.int64)
    for g in range(count):
        fill[g] = starts[g]
    for f in range(len(corners)):
        for i in range(3):
            g = group_of[f, i]
            if g >= 0:
                members[fill[g]] = 3 * f + i
                fill[g] += 1
    for g in range(count):
        _average_group(
            members[starts[g] : starts[g + 1]], positions, normals, along_u, along_v, flags, group_flag[g], out
        )
    return out


@kernel
def _average_group(
    members: I64, positions: F32, normals: F32, along_u: F32, along_v: F32, flags: I8, orientation: int, out: F32
) -> None:
    """Write the tangents of a group of corners into out (T, 3, 4): the mean of those that agree, weighted by angle."""
    u, v, angle = _in_planes(members, positions, normals, along_u, along_v)
    m, total, shared = len(members), np.empty(3, np.float32), np.empty(3, np.float32)
    whole = False  # the sum over the whole group is the rule; leave-outs are recomputed
    for k in range(m):
        left_out = False
        any_k = flags[members[k] // 3] & JOINS_ANY
        for j in range(m):
            if not (any_k or flags[members[j] // 3] & JOINS_ANY or j == k) and not _agree(u, v, k, j):
                left_out = True
                break
        if left_out or not whole:
            total[:] = 0
            for j in range(m):
                if flags[members[j] // 3] & JOINS_ANY:
                    continue
                if any_k or j == k or not left_out or _agree(u, v, k, j):
                    for c in range(3):
                        total[c] += angle[j] * u[j, c]
            _unit(total)
            if not left_out:
                whole = True
                shared[:] = total
        chosen = total if left_out else shared
        f, i = members[k] // 3, members[k] % 3
        out[f, i, 0], out[f, i, 1], out[f, i, 2] = chosen[0], chosen[1], chosen[2]
        out[f, i, 3] = 1 if orientation else -1


@kernel
def _agree(u: F32, v: F32, k: int, j: int) -> bool:
    """Whether both directions of two members of a group do not point against each other."""
    return u[k, 0] * u[j, 0] + u[k, 1] * u[j, 1] + u[k, 2] * u[j, 2] > np.float32(-1) and v[k, 0] * v[j, 0] + v[
        k, 1
    ] * v[j, 1] + v[k, 2] * v[j, 2] > np.float32(-1)


@kernel
def _in_planes(members: I64, positions: F32, normals: F32, along_u: F32, along_v: F32) -> tuple[F32, F32, F32]:
    """Of the corners (M,) of a group the directions u and v in the planes of their normals (M, 3), and angles (M,)."""
    m = len(members)
    u = np.empty((m, 3), np.float32)
    v = np.empty((m, 3), np.float32)
    angle = np.empty(m, np.float32)
    e1, e2, edge = np.empty(3, np.float32), np.empty(3, np.float32), np.empty((2, 3), np.float32)
    for k in range(m):
        f, i = members[k] // 3, members[k] % 3
        n = normals[f, i]
        _onto_plane(along_u[f], n, u[k])
        _onto_plane(along_v[f], n, v[k])
        for c in range(3):
            edge[0, c] = positions[f, (i + 2) % 3, c] - positions[f, i, c]
            edge[1, c] = positions[f, (i + 1) % 3, c] - positions[f, i, c]
        _onto_plane(edge[0], n, e1)
        _onto_plane(edge[1], n, e2)
        cosine = min(max(e1[0] * e2[0] + e1[1] * e2[1] + e1[2] * e2[2], np.float32(-1)), np.float32(1))
        angle[k] = np.float32(np.arccos(np.float64(cosine)))
    return u, v, angle


@kernel
def _lend(out: F32, corners: I32, flat: Bool) -> None:
    """Give triangles without area the tangent of the first good triangle at the same corner."""
    highest = 0
    for f in range(len(corners)):
        for i in range(3):
            highest = max(highest, corners[f, i])
    lender = np.full(highest + 1, -1, np.int64)
    for f in range(len(corners)):
        if not flat[f]:
            for i in range(3):
                if lender[corners[f, i]] < 0:
                    lender[corners[f, i]] = 3 * f + i
    for f in range(len(corners)):
        if flat[f]:
            for i in range(3):
                source = lender[corners[f, i]]
                if source >= 0:
                    for k in range(4):
                        out[f, i, k] = out[source // 3, source % 3, k]
