"""Harmless corrections of an object, made on the piece's copy and never on the user's file.

Adding one is a function and a line in the registry; each takes the mesh and its triangles' mask, and gives a mesh
with the same triangles in the same order, fewer only where some have become points or lines or are left out.
"""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from ..base.array_types import F64, I64, Bool
from ..base.on_demand import on_demand
from ..settings.files import FileSettings
from .adjacency import Edges, bends, edges_of, islands_of, seams_of, shaded
from .alignment import axes_of
from .mesh import CornerValues, Mesh, subset, values_at_corners
from .normals import smooth, weld, with_normals
from .shells import shell_near
from .transforms import transformed
from .vertex_colors import with_linear_colors

cKDTree = on_demand("scipy.spatial", "cKDTree")

MERGE_WITHIN = 1e-5  # of the mesh's diagonal
Box = tuple[tuple[float, ...], tuple[float, ...]]
TURNS = {
    "none": np.eye(3),
    "z_to_y": np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]], np.float64),
    "y_to_z": np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]], np.float64),
}


def treated(mesh: Mesh, settings: FileSettings) -> Mesh:
    """A file's mesh as the piece takes it: turned, scaled, moved and fixed. Untouched settings cost nothing."""
    mesh = with_linear_colors(transformed(mesh, matrix_of(settings)), settings.colors)
    for fix in settings.fixes:
        names = np.array([fix.part in ("", name) for name in mesh.object_names])
        chosen = names[mesh.objects]
        if fix.near is not None:
            chosen = shell_near(mesh, chosen, fix.near)
        if chosen.any():
            mesh = smooth_shading(mesh, chosen, fix.angle) if fix.kind == "smooth" else REGISTRY[fix.kind](mesh, chosen)
    return mesh


def matrix_of(settings: FileSettings) -> F64:
    """Turn, then scale, then move, (4, 4)."""
    matrix = np.eye(4)
    turn = TURNS.get(settings.turn)
    matrix[:3, :3] = (axes_of(settings.turn) if turn is None else turn) * settings.scale
    matrix[:3, 3] = settings.move
    return matrix


def box_of(boxes: list[tuple[FileSettings, Box]]) -> F64 | None:
    """The box around some parts' boxes, (2, 3) lowest and highest corner, as their files are taken; None for none."""
    if not boxes:
        return None
    placed = [np.array(box) @ matrix_of(s)[:3, :3].T + matrix_of(s)[:3, 3] for s, box in boxes]
    both = np.concatenate(placed)
    return np.stack([both.min(axis=0), both.max(axis=0)])


def near_pairs(mesh: Mesh, edges: Edges, chosen: Bool | None = None) -> I64:
    """Vertices on open borders that lie within a hundred-thousandth of the diagonal of another without being it.

    (N, 2) rows of the positions, the smaller first; only borders of `chosen (T,)` triangles.
    """
    t, k = np.divmod(np.flatnonzero(edges.open if chosen is None else edges.open & chosen[:, None]), 3)
    rows = np.unique(np.concatenate([mesh.triangles[t, k], mesh.triangles[t, (k + 1) % 3]])).astype(np.int64)
    if len(rows) < 2:
        return np.zeros((0, 2), np.int64)
    rows = rows[np.unique(weld(mesh.positions[rows]))]
    tree = cKDTree(mesh.positions[rows].astype(np.float64))
    pairs = tree.query_pairs(max(mesh.diagonal * MERGE_WITHIN, 1e-30), output_type="ndarray")
    return np.asarray(np.sort(rows[pairs.reshape(-1, 2)], axis=1))


def merge_doubles(mesh: Mesh, chosen: Bool) -> Mesh:
    """Border vertices that nearly fall together take one position; triangles that lose their area go."""
    pairs = near_pairs(mesh, edges_of(mesh), chosen)
    first = weld(mesh.positions)
    target = np.arange(len(first))
    for earlier, later in pairs[np.argsort(pairs[:, 1], kind="stable")].tolist():
        target[first[later]] = target[first[earlier]]
    positions = mesh.positions[target[first]]
    a, b, c = weld(positions)[mesh.triangles].T
    alive = ~chosen | ((a != b) & (b != c) & (c != a))
    return subset(replace(mesh, positions=positions), alive)


def flip_winding(mesh: Mesh, chosen: Bool) -> Mesh:
    """Turn every triangle over; normals of the file that look away from the new faces turn too, others stay."""
    rows = np.where(chosen[:, None], np.array([2, 1, 0]), np.array([0, 1, 2]))

    def turned(layer: CornerValues | None) -> CornerValues | None:
        return CornerValues(layer.values, np.take_along_axis(layer.corners, rows, axis=1)) if layer else None

    normals = turned(mesh.normals)
    if normals is not None:
        values = normals.at_corners()
        p = mesh.positions[mesh.triangles].astype(np.float64)
        facing = np.cross(p[:, 2] - p[:, 0], p[:, 1] - p[:, 0])  # of the turned faces
        away = np.einsum("tkc,tc->tk", values, facing) < 0
        values[away & chosen[:, None]] *= -1
        normals = values_at_corners(values)
    return replace(
        mesh,
        triangles=np.take_along_axis(mesh.triangles, rows, axis=1),
        normals=normals,
        uvs=tuple(uv for layer in mesh.uvs if (uv := turned(layer))),
        tangents=None,
        colors=turned(mesh.colors),
    )


def smooth_shading(mesh: Mesh, chosen: Bool, angle: float = 180.0) -> Mesh:
    """Smooth normals in place of those of the file; edges that bend by more than an angle, degrees, stay hard."""
    if angle >= 180:
        return _with_corner_normals(mesh, chosen, smooth(mesh).at_corners())
    edges = edges_of(mesh)
    return _with_corner_normals(mesh, chosen, shaded(mesh, edges, bends(mesh, edges) > angle, False))


def split_at_seams(mesh: Mesh, chosen: Bool) -> Mesh:
    """Hard edges at the borders of UV islands, smooth shading inside them."""
    return _with_corner_normals(mesh, chosen, seam_normals(mesh))


def seam_normals(mesh: Mesh, channel: int = 0) -> np.ndarray:  # type: ignore[type-arg]
    """Corner normals (T, 3, 3) float32 that are split at UV seams and smooth elsewhere."""
    edges = edges_of(mesh)
    uvs = mesh.uvs[channel].at_corners()
    return shaded(mesh, edges, seams_of(uvs, edges), False)


def _with_corner_normals(mesh: Mesh, chosen: Bool, values: np.ndarray) -> Mesh:  # type: ignore[type-arg]
    dressed = with_normals(mesh)
    assert dressed.normals is not None
    if chosen.all():
        return replace(mesh, normals=values_at_corners(values), tangents=None)
    kept = dressed.normals.at_corners()
    kept[chosen] = values[chosen]
    return replace(mesh, normals=values_at_corners(kept), tangents=None)


def into_tile(mesh: Mesh, chosen: Bool) -> Mesh:
    """Move each UV island by whole tiles, so that its middle lies in the first tile."""
    edges = edges_of(mesh)
    moved = []
    for layer in mesh.uvs:
        uvs = layer.at_corners()
        island = islands_of(uvs, edges)
        middle = uvs.mean(axis=1, dtype=np.float64)
        count = np.bincount(island)
        tile = np.stack([np.floor(np.bincount(island, middle[:, k]) / count + 1e-9) for k in range(2)], axis=1)
        uvs -= np.where(chosen[:, None], tile[island], 0).astype(np.float32)[:, None]
        moved.append(values_at_corners(uvs))
    return replace(mesh, uvs=tuple(moved))


def leave_out(mesh: Mesh, chosen: Bool) -> Mesh:
    """Without some triangles: what the piece has no low for."""
    return subset(mesh, ~chosen)


REGISTRY: dict[str, Callable[[Mesh, Bool], Mesh]] = {
    "merge_doubles": merge_doubles,
    "flip_winding": flip_winding,
    "smooth": smooth_shading,
    "split_at_seams": split_at_seams,
    "into_tile": into_tile,
    "leave_out": leave_out,
}
WORDS = {
    "merge_doubles": "Merge doubled vertices",
    "flip_winding": "Turn the faces over",
    "smooth": "Treat as smooth",
    "split_at_seams": "Split normals at UV seams",
    "into_tile": "Move islands into the tile",
    "leave_out": "Leave out",
}
