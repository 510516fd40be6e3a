"""Subdivision of a low at bake time: flat, Loop or Catmull-Clark, with creases where it has hard edges.

Catmull-Clark: E. Catmull and J. Clark, "Recursively generated B-spline surfaces on arbitrary topological meshes",
Computer-Aided Design 10(6), 1978, on the polygons of the file. Loop: C. Loop, "Smooth subdivision surfaces based on
triangles", 1987, on the triangles, with J. Warren's weights. Creases, corners and open borders: H. Hoppe et al.,
"Piecewise smooth surface reconstruction", SIGGRAPH 1994. UVs and colours are cut in half along edges and stay where
they are on the sheet.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ..base.array_types import F64, I32, I64, AnyArray, Bool
from ..base.errors import InputProblem
from ..base.kernels import kernel
from ..settings.maps import Subdivision
from .adjacency import differs_across, edges_of, shaded
from .mesh import NO_VALUE, CornerValues, Mesh, values_at_corners
from .normals import vertices
from .triangulation import triangulate

MOST_TRIANGLES = 4_000_000
SAME_NORMAL = 1e-3


@dataclass(frozen=True, slots=True)
class _Cage:
    """Polygons while they are divided, corner after corner (C,).

    vertex, face and following (the next corner around the face) are rows; points (V, 3) float64; layers are values at
    the corners, (C, K) float64; of (F,) is the triangle of the mesh that a face's object and material come from; sharp
    (S,) int64 are the keys of sharp edges.
    """

    vertex: I64
    face: I64
    following: I64
    points: F64
    layers: list[F64]
    of: I64
    sharp: I64

    @property
    def edge_keys(self) -> I64:
        """A key for the edge from each corner to the next, the same from both sides."""
        return _key(self.vertex, self.vertex[self.following])


def subdivided(mesh: Mesh, how: Subdivision) -> Mesh:
    """A mesh of one object with each face divided `how.levels` times.

    Its normals are computed anew, smooth but for its hard edges: those at which the mesh's normals differ. They are
    creases if `how.creases`. Raises InputProblem where that would make more than `MOST_TRIANGLES`.
    """
    if how.scheme == "none" or not len(mesh.triangles):
        return mesh
    count = len(mesh.triangles) * 4**how.levels
    if count > MOST_TRIANGLES:
        raise InputProblem(
            mesh.name, f"Divided {how.levels} times it would have about {count:,} triangles.", "Choose fewer levels."
        )
    edges = edges_of(mesh)
    hard = np.zeros(edges.across.shape, bool)
    if mesh.normals is not None:
        hard = differs_across(mesh.normals.at_corners(), edges, SAME_NORMAL)
    cage = _cage_of(mesh, edges.ids, hard, how.scheme == "catmull-clark")
    creases = cage.sharp if how.creases else np.zeros(0, np.int64)
    for _ in range(how.levels):
        cage, creases = SCHEMES[how.scheme](cage, creases)
    return _mesh_of(mesh, cage)


def _cage_of(mesh: Mesh, ids: I32, hard: Bool, polygons: bool) -> _Cage:
    positions, triangles, _ = vertices(mesh)
    if polygons and mesh.polygons is not None:
        order = np.argsort(mesh.polygons, kind="stable")
        starts = np.flatnonzero(np.diff(mesh.polygons[order], prepend=-1, append=-2)).astype(np.int64)
        corners, counts = _rings(order, starts, ids)
    else:
        corners, counts = np.arange(3 * len(ids)), np.full(len(ids), 3)
    _, vertex = np.unique(ids.reshape(-1)[corners], return_inverse=True)
    points = np.empty((int(vertex.max()) + 1, 3))
    points[vertex] = positions[triangles.reshape(-1)[corners]]
    first = np.cumsum(counts) - counts
    face = np.repeat(np.arange(len(counts)), counts)
    following = np.arange(1, len(corners) + 1)
    following[first + counts - 1] = first
    layers = [layer.at_corners().reshape(3 * len(ids), -1)[corners].astype(np.float64) for layer in _layers(mesh)]
    number = np.zeros(int(ids.max()) + 1, np.int64)
    number[ids.reshape(-1)[corners]] = vertex
    sharp = np.unique(_key(number[ids], number[np.roll(ids, -1, axis=1)])[hard])
    return _Cage(vertex, face, following, points, layers, corners[first] // 3, sharp)


def _layers(mesh: Mesh) -> list[CornerValues]:
    return [*mesh.uvs, *([mesh.colors] if mesh.colors is not None else [])]


def _key(a: AnyArray, b: AnyArray) -> I64:
    return np.minimum(a, b).astype(np.int64) << 32 | np.maximum(a, b).astype(np.int64)


@kernel
def _rings(order: I64, starts: I64, ids: I32) -> tuple[I64, I64]:
    """The outlines of polygons given as triangles: corners (3 * triangle + number) and how many each has.

    Triangles order[starts[g] : starts[g + 1]] make up a polygon; one whose outline is no single ring stays triangles.
    """
    corners = np.empty(3 * len(order), np.int64)
    counts = np.empty(len(order), np.int64)
    used, faces = 0, 0
    for g in range(len(starts) - 1):
        ring_corners = order[starts[g] : starts[g + 1]]
        n = 3 * len(ring_corners)
        edge = np.empty(n, np.int64)
        rim = 0
        for i in range(n):
            t, k = ring_corners[i // 3], i % 3
            a, b = ids[t, k], ids[t, (k + 1) % 3]
            inner = False
            for j in range(n):
                inner |= ids[ring_corners[j // 3], j % 3] == b and ids[ring_corners[j // 3], (j + 1) % 3] == a
            if not inner:
                edge[rim] = 3 * t + k
                rim += 1
        begin, rings = used, 0
        at = edge[0] if rim else 0
        for _ in range(rim):
            corners[used] = at
            used += 1
            rings += 1
            end = ids[at // 3, (at % 3 + 1) % 3]
            after = -1
            for i in range(rim):
                if ids[edge[i] // 3, edge[i] % 3] == end:
                    after = edge[i]
                    break
            at = after
            if at == edge[0] or at < 0:
                break
        if rings == rim and at == edge[0] and rim >= 3:
            counts[faces] = rim
            faces += 1
            continue
        used = begin
        for t in ring_corners:
            for k in range(3):
                corners[used] = 3 * t + k
                used += 1
            counts[faces] = 3
            faces += 1
    return corners[:used], counts[:faces]


@dataclass(frozen=True, slots=True)
class _Sides:
    """Edges of a cage: ends (E, 2), the edge of each corner (C,), whether it is a crease or open (E,)."""

    ends: I64
    of: I64
    sharp: Bool


def _sides(cage: _Cage, creases: I64) -> _Sides:
    keys, of, uses = np.unique(cage.edge_keys, return_inverse=True, return_counts=True)
    ends = np.stack([keys >> 32, keys & 0xFFFFFFFF], axis=1)
    return _Sides(ends, of.reshape(-1), (uses != 2) | np.isin(keys, creases))


def _halved(sides: _Sides, count: int, keys: I64) -> I64:
    """Keys of the two halves of every edge in `keys`, the middle of edge e being vertex count + e."""
    whole = _key(sides.ends[:, 0], sides.ends[:, 1])
    chosen = np.isin(whole, keys)
    middle = np.flatnonzero(chosen) + count
    return np.concatenate([_key(sides.ends[chosen, 0], middle), _key(sides.ends[chosen, 1], middle)])


def _sum_at(rows: I64, values: F64, count: int) -> F64:
    return np.stack([np.bincount(rows, values[:, k], count) for k in range(values.shape[1])], axis=1)


def _creased(cage: _Cage, sides: _Sides, smooth: F64) -> F64:
    """New places of the old vertices: `smooth (V, 3)` ones, but on creases (6 v + a + b) / 8, and corners stay."""
    count, ends = len(cage.points), sides.ends[sides.sharp]
    rows = ends.reshape(-1)
    many = np.bincount(rows, minlength=count)
    across = _sum_at(rows, cage.points[ends[:, ::-1].reshape(-1)], count)
    out = np.where((many == 2)[:, None], (6 * cage.points + across) / 8, smooth)
    lone = np.bincount(cage.vertex, minlength=count) == 1  # the corner of an open sheet
    return np.where(((many > 2) | ((many == 2) & lone))[:, None], cage.points, out)


def _quads(cage: _Cage, creases: I64) -> tuple[_Cage, I64]:
    """One step of Catmull-Clark: every corner of a face becomes a quad."""
    sides, points, count = _sides(cage, creases), cage.points, len(cage.points)
    faces = len(cage.of)
    sizes = np.bincount(cage.face, minlength=faces)[:, None]
    middles = _sum_at(cage.face, points[cage.vertex], faces) / sizes
    halves = points[sides.ends].mean(axis=1)
    inner = (2 * halves + _sum_at(sides.of, middles[cage.face], len(halves))) / 4
    edge_points = np.where(sides.sharp[:, None], halves, inner)
    n = np.bincount(sides.ends.reshape(-1), minlength=count)[:, None]
    around = _sum_at(cage.vertex, middles[cage.face], count) / np.bincount(cage.vertex, minlength=count)[:, None]
    along = _sum_at(sides.ends.reshape(-1), np.repeat(halves, 2, axis=0), count) / n
    placed = _creased(cage, sides, (around + 2 * along + (n - 3) * points) / n)
    before = np.empty_like(cage.following)
    before[cage.following] = np.arange(len(before))
    corner = np.arange(len(before))
    vertex = np.stack(
        [cage.vertex, count + sides.of, count + len(halves) + cage.face, count + sides.of[before]], axis=1
    )
    layers = []
    for values in cage.layers:
        halfway = (values + values[cage.following]) / 2
        middle = _sum_at(cage.face, values, faces) / sizes
        layers.append(
            np.stack([values, halfway, middle[cage.face], halfway[before]], axis=1).reshape(-1, values.shape[1])
        )
    divided = _around(vertex, np.concatenate([placed, edge_points, middles]), layers, cage.of[cage.face[corner]])
    return replace(divided, sharp=_halved(sides, count, cage.sharp)), _halved(sides, count, creases)


def _triangles(cage: _Cage, creases: I64, smooth: bool) -> tuple[_Cage, I64]:
    """One step of Loop's scheme, or a cut into four that leaves the shape as it is."""
    sides, points, count = _sides(cage, creases), cage.points, len(cage.points)
    edge_points, placed = points[sides.ends].mean(axis=1), points
    if smooth:
        opposite = _sum_at(sides.of, points[cage.vertex[cage.following[cage.following]]], len(edge_points))
        inner = (6 * edge_points + opposite) / 8
        rows = sides.ends.reshape(-1)
        n = np.bincount(rows, minlength=count)[:, None]
        share = np.where(n > 3, 3 / (8 * np.maximum(n, 1)), 3 / 16)
        around = _sum_at(rows, points[sides.ends[:, ::-1].reshape(-1)], count)
        placed = _creased(cage, sides, (1 - n * share) * points + share * around)
        edge_points = np.where(sides.sharp[:, None], edge_points, inner)
    a = np.arange(0, len(cage.vertex), 3)[:, None] + np.array([0, 1, 2])
    v, e = cage.vertex[a], count + sides.of[a]
    quarters = [(v[:, k], e[:, k], e[:, k - 1]) for k in range(3)] + [(e[:, 0], e[:, 1], e[:, 2])]
    vertex = np.stack([np.stack(q, axis=1) for q in quarters], axis=1).reshape(-1, 3)
    layers = []
    for values in cage.layers:
        at = values[a]
        mid = (at + np.roll(at, -1, axis=1)) / 2
        faces = [(at[:, k], mid[:, k], mid[:, k - 1]) for k in range(3)] + [(mid[:, 0], mid[:, 1], mid[:, 2])]
        layers.append(np.stack([np.stack(q, axis=1) for q in faces], axis=1).reshape(-1, values.shape[1]))
    divided = _around(vertex, np.concatenate([placed, edge_points]), layers, np.repeat(cage.of, 4))
    return replace(divided, sharp=_halved(sides, count, cage.sharp)), _halved(sides, count, creases)


def _around(vertex: I64, points: F64, layers: list[F64], of: I64) -> _Cage:
    """A cage of faces with equally many corners, `vertex (F, N)`."""
    faces, size = vertex.shape
    corners = np.arange(faces * size).reshape(faces, size)
    return _Cage(
        vertex.reshape(-1),
        np.repeat(np.arange(faces), size),
        np.roll(corners, -1, axis=1).reshape(-1),
        points,
        layers,
        of,
        np.zeros(0, np.int64),
    )


SCHEMES: dict[str, Callable[[_Cage, I64], tuple[_Cage, I64]]] = {
    "catmull-clark": _quads,
    "loop": lambda cage, creases: _triangles(cage, creases, True),
    "flat": lambda cage, creases: _triangles(cage, creases, False),
}


def _mesh_of(mesh: Mesh, cage: _Cage) -> Mesh:
    """Triangles of the divided faces by the one rule, with what the mesh knows of their objects and materials."""
    counts = np.bincount(cage.face, minlength=len(cage.of))
    points = np.ascontiguousarray(cage.points, np.float32)
    picks, faces = triangulate(counts, cage.vertex, points)
    triangles = cage.vertex[picks].astype(np.int32)
    of = cage.of[faces]
    layers = []
    for values, before in zip(cage.layers, _layers(mesh), strict=True):
        layer = values_at_corners(np.asarray(values[picks], np.float32))
        bare = (before.corners[of] < 0).any(axis=1, keepdims=True)
        layers.append(replace(layer, corners=np.where(bare, NO_VALUE, layer.corners).astype(np.int32)))
    divided = Mesh(
        mesh.name,
        points,
        triangles,
        uvs=tuple(layers[: len(mesh.uvs)]),
        colors=layers[-1] if mesh.colors is not None else None,
        objects=mesh.objects[of],
        object_names=mesh.object_names,
        materials=mesh.materials[of],
        material_names=mesh.material_names,
        material_colors=mesh.material_colors,
        emission_colors=mesh.emission_colors,
    )
    hard = np.isin(_key(triangles, np.roll(triangles, -1, axis=1)), cage.sharp)
    return replace(divided, normals=values_at_corners(shaded(divided, edges_of(divided), hard, False)))
