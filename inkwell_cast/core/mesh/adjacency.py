"""Edges of a mesh: who lies across them, which are open, doubled or wound against each other.

Corners count as one vertex where their positions are equal bit for bit and they belong to the same object.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I8, I32, I64, Bool
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.threads import in_shares
from .mesh import Mesh
from .normals import face_normals, vertices

SMALLEST_UV_STEP = 1e-6


@dataclass(frozen=True, slots=True)
class Edges:
    """Edge k of triangle t runs from corner k to corner k + 1.

    ids     (T, 3) int32, the vertex at each corner
    across  (T, 3) int32, the triangle on the other side that runs the edge the other way, -1 for none
    side    (T, 3) int8, which of its edges that is
    uses    (T, 3) int32, how many triangles share the edge
    against (T, 3) bool, a neighbour runs the edge the same way: its winding is turned over
    """

    ids: I32
    across: I32
    side: I8
    uses: I32
    against: Bool

    @property
    def open(self) -> Bool:
        return np.asarray(self.uses == 1)

    @property
    def non_manifold(self) -> Bool:
        return np.asarray(self.uses > 2)


def edges_of(mesh: Mesh) -> Edges:
    """The edges of a mesh; triangles that use a vertex twice take no part."""
    _, triangles, shared = vertices(mesh)
    ids: I32 = shared[triangles]
    across, side = np.full(ids.shape, -1, np.int32), np.zeros(ids.shape, np.int8)
    uses, against = np.zeros(ids.shape, np.int32), np.zeros(ids.shape, np.bool_)
    in_shares(len(shared), lambda first, last: _join(first, last, ids, across, side, uses, against))
    return Edges(ids, across, side, uses, against)


MANY = 64  # edges of one vertex from which on they are sorted, not compared one by one


@kernel(inline="always")
def _lower(ids: I32, f: int, k: int) -> int:
    """The lower of the vertices of edge k, -1 where the triangle uses a vertex twice."""
    a, b, c = ids[f, 0], ids[f, 1], ids[f, 2]
    return -1 if a == b or b == c or c == a else min(ids[f, k], ids[f, (k + 1) % 3])


@kernel
def _join(first: int, last: int, ids: I32, across: I32, side: I8, uses: I32, against: Bool) -> None:
    """All of the edges whose lower vertex is one from first to last."""
    starts = np.zeros(last - first + 2, np.int64)
    for f in range(len(ids)):
        for k in range(3):
            v = _lower(ids, f, k)
            if first <= v < last:
                starts[v - first + 2] += 1
    for v in range(1, len(starts)):
        starts[v] += starts[v - 1]
    own = np.empty(starts[-1], np.int64)
    for f in range(len(ids)):
        for k in range(3):
            v = _lower(ids, f, k)
            if first <= v < last:
                own[starts[v - first + 1]] = 3 * f + k
                starts[v - first + 1] += 1
    for v in range(last - first):
        edges = own[starts[v] : starts[v + 1]]
        if len(edges) > MANY:
            ends = np.empty(len(edges), np.int64)
            for n in range(len(edges)):
                f, k = edges[n] // 3, edges[n] % 3
                ends[n] = max(ids[f, k], ids[f, (k + 1) % 3])
            edges = edges[np.argsort(ends, kind="mergesort")]
        _match(edges, ids, across, side, uses, against)


@kernel
def _match(edges: I64, ids: I32, across: I32, side: I8, uses: I32, against: Bool) -> None:
    """Join those of one lower vertex that have the same upper one; many are sorted by it."""
    for p in range(len(edges)):
        f, k = edges[p] // 3, edges[p] % 3
        end = max(ids[f, k], ids[f, (k + 1) % 3])
        forward, shared, last = ids[f, k] < ids[f, (k + 1) % 3], 1, p
        for q in range(p + 1, len(edges)):
            g, m = edges[q] // 3, edges[q] % 3
            if max(ids[g, m], ids[g, (m + 1) % 3]) == end:
                shared, last = shared + 1, q
            elif len(edges) > MANY:
                break
        if uses[f, k] == 0:
            uses[f, k] = shared
        for q in range(p + 1, last + 1):
            g, m = edges[q] // 3, edges[q] % 3
            if max(ids[g, m], ids[g, (m + 1) % 3]) != end:
                continue
            uses[g, m] = uses[f, k]
            same = (ids[g, m] < ids[g, (m + 1) % 3]) == forward
            if same:
                if uses[f, k] == 2:
                    against[f, k] = against[g, m] = True
            elif across[f, k] < 0 and across[g, m] < 0:
                across[f, k], across[g, m] = g, f
                side[f, k], side[g, m] = m, k


def bends(mesh: Mesh, edges: Edges) -> F64:
    """Angle in degrees between the faces on both sides of every edge, (T, 3); 0 where nobody lies across."""
    normals = face_normals(mesh.positions, mesh.triangles)
    other = normals[np.maximum(edges.across, 0)]
    cosine = np.clip(np.einsum("tk,tek->te", normals, other), -1, 1)
    return np.where(edges.across < 0, 0.0, np.degrees(np.arccos(cosine)))


def differs_across(values: F32, edges: Edges, tolerance: float) -> Bool:
    """Edges (T, 3) at whose ends the values (T, 3, K) of both sides differ by more than `tolerance` in length."""
    return np.asarray(_differs(np.ascontiguousarray(values, np.float32), edges.across, edges.side, tolerance**2))


@kernel
def _differs(values: F32, across: I32, side: I8, limit: float) -> Bool:
    out = np.zeros(across.shape, np.bool_)
    for f in range(len(across)):
        for k in range(3):
            g = across[f, k]
            if g < 0:
                continue
            m = side[f, k]
            first = second = 0.0
            for c in range(values.shape[2]):
                first += (values[f, k, c] - values[g, (m + 1) % 3, c]) ** 2
                second += (values[f, (k + 1) % 3, c] - values[g, m, c]) ** 2
            out[f, k] = first > limit or second > limit
    return out


def groups(edges: Edges, through: Bool) -> I32:
    """Connected sets of triangles, joined over the edges marked in `through (T, 3)`; (T,) int32, numbered from 0."""
    return np.asarray(_groups(edges.across, through), np.int32)


def seams_of(uvs: F32, edges: Edges) -> Bool:
    """Edges (T, 3) at whose sides UVs (T, 3, 2) differ."""
    return differs_across(uvs, edges, SMALLEST_UV_STEP)


def islands_of(uvs: F32, edges: Edges) -> I32:
    """The UV island of every triangle, (T,) int32, from UVs (T, 3, 2)."""
    return groups(edges, ~seams_of(uvs, edges))


@kernel
def _groups(across: I32, through: Bool) -> I32:
    group = np.full(len(across), -1, np.int32)
    stack = np.empty(3 * len(across) + 1, np.int32)
    count = 0
    for start in range(len(across)):
        if group[start] >= 0:
            continue
        group[start], stack[0], depth = count, start, 1
        while depth:
            depth -= 1
            f = stack[depth]
            for k in range(3):
                g = across[f, k]
                if g >= 0 and through[f, k] and group[g] < 0:
                    group[g] = count
                    stack[depth] = g
                    depth += 1
        count += 1
    return group


def shaded(mesh: Mesh, edges: Edges, hard: Bool, by_area: bool) -> F32:
    """Unit corner normals (T, 3, 3), smooth over every edge not marked in `hard (T, 3)`.

    Faces weigh with their corner angle, and with their area too if `by_area`.
    """
    corners = mesh.positions[mesh.triangles].astype(np.float64)
    out = np.zeros(corners.shape, np.float32)
    _shade(corners, edges.across, edges.side, hard, by_area, out)
    return out


@kernel
def _cross(p: F64, f: int) -> Vector:
    """Twice the area of face f along its normal."""
    ux, uy, uz = p[f, 1, 0] - p[f, 0, 0], p[f, 1, 1] - p[f, 0, 1], p[f, 1, 2] - p[f, 0, 2]
    vx, vy, vz = p[f, 2, 0] - p[f, 0, 0], p[f, 2, 1] - p[f, 0, 1], p[f, 2, 2] - p[f, 0, 2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@kernel
def _shade(p: F64, across: I32, side: I8, hard: Bool, by_area: bool, out: F32) -> None:
    count = len(p)
    root = np.arange(3 * count)

    for f in range(count):
        for k in range(3):
            g = across[f, k]
            if g < f or hard[f, k]:
                continue
            m = side[f, k]
            for a, b in ((3 * f + k, 3 * g + (m + 1) % 3), (3 * f + (k + 1) % 3, 3 * g + m)):
                while root[a] != a:
                    root[a] = root[root[a]]
                    a = root[a]
                while root[b] != b:
                    root[b] = root[root[b]]
                    b = root[b]
                root[max(a, b)] = min(a, b)
    sums = np.zeros((3 * count, 3))
    for f in range(count):
        n = _cross(p, f)
        length = np.sqrt(n[0] * n[0] + n[1] * n[1] + n[2] * n[2])
        if length == 0:
            continue
        for k in range(3):
            cosine = 0.0
            for i in range(3):
                cosine += (p[f, (k + 1) % 3, i] - p[f, k, i]) * (p[f, (k + 2) % 3, i] - p[f, k, i])
            angle = np.arctan2(length, cosine)
            weight = angle if by_area else angle / length
            r = 3 * f + k
            while root[r] != r:
                r = root[r]
            for i in range(3):
                sums[r, i] += weight * n[i]
    for f in range(count):
        for k in range(3):
            r = 3 * f + k
            while root[r] != r:
                r = root[r]
            length = np.sqrt(sums[r, 0] ** 2 + sums[r, 1] ** 2 + sums[r, 2] ** 2)
            if length > 0:
                for i in range(3):
                    out[f, k, i] = sums[r, i] / length
