"""Small meshes with known answers, shared by the tests."""

from dataclasses import replace

import numpy as np

from inkwell_cast.core.mesh.mesh import CornerValues, Mesh, merge, values_at_corners
from inkwell_cast.core.mesh.normals import with_normals


def grid_mesh(across: int, down: int, point, name: str = "grid", normal=None, uv=None) -> Mesh:
    """Triangles over the unit square; `point(u, v)` gives positions, `normal(u, v)` normals, UVs are u and v."""
    u, v = np.meshgrid(np.linspace(0, 1, across + 1), np.linspace(0, 1, down + 1), indexing="ij")
    positions = np.stack(point(u, v), axis=-1).reshape(-1, 3).astype(np.float32)
    flat = np.stack(uv(u, v) if uv else (u, v), axis=-1).reshape(-1, 2).astype(np.float32)
    index = np.arange((across + 1) * (down + 1)).reshape(across + 1, down + 1)
    a, b, c, d = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
    triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    triangles = triangles.astype(np.int32)
    normals = None
    if normal:
        values = np.stack(np.broadcast_arrays(*normal(u, v)), axis=-1).reshape(-1, 3).astype(np.float32)
        normals = CornerValues(values, triangles)
    return Mesh(name, positions, triangles, normals=normals, uvs=(CornerValues(flat, triangles),))


def plane(cells: int = 1, height: float = 0.0, size: float = 1.0, name: str = "plane") -> Mesh:
    """A square in x and y, looking along z."""
    return grid_mesh(cells, cells, lambda u, v: (u * size, v * size, np.full_like(u, height)), name)


def torus(around: int, across: int, big: float = 2.0, small: float = 0.7, name: str = "torus") -> Mesh:
    """A torus about z with analytic normals; its seams are closed bit for bit."""

    def angles(u, v):
        return np.where(u == 1, 0, u) * 2 * np.pi, np.where(v == 1, 0, v) * 2 * np.pi

    def point(u, v):
        a, b = angles(u, v)
        ring = big + small * np.cos(b)
        return ring * np.cos(a), ring * np.sin(a), small * np.sin(b)

    def normal(u, v):
        a, b = angles(u, v)
        return np.cos(b) * np.cos(a), np.cos(b) * np.sin(a), np.sin(b)

    return grid_mesh(around, across, point, name, normal)


def torus_normals(positions: np.ndarray, big: float = 2.0) -> np.ndarray:
    """Analytic unit normals of the torus nearest to some places."""
    ring = np.hypot(positions[..., 0], positions[..., 1])
    out = positions.copy()
    out[..., 0] -= positions[..., 0] / ring * big
    out[..., 1] -= positions[..., 1] / ring * big
    return out / np.linalg.norm(out, axis=-1, keepdims=True)


def soup(positions, normals, uvs, name: str = "soup") -> Mesh:
    """A mesh of loose triangles, each array (T, 3, k); equal positions are not joined."""
    positions = np.asarray(positions, np.float32)
    triangles = np.arange(3 * len(positions), dtype=np.int32).reshape(-1, 3)
    return Mesh(
        name,
        positions.reshape(-1, 3),
        triangles,
        normals=values_at_corners(np.asarray(normals, np.float32)),
        uvs=(values_at_corners(np.asarray(uvs, np.float32)),),
    )


def cube(size: float = 1.0, center=(0.0, 0.0, 0.0), name: str = "cube") -> Mesh:
    """A cube with face normals and every face on its own sixth of the sheet."""
    positions, normals, uvs = [], [], []
    for face in range(6):
        axis, sign = face % 3, 1 if face < 3 else -1
        i, j = (axis + 1) % 3, (axis + 2) % 3
        if sign < 0:
            i, j = j, i
        corners = []
        for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
            p = np.zeros(3)
            p[axis], p[i], p[j] = sign, a, b
            corners.append(p * size / 2 + center)
        n = np.zeros(3)
        n[axis] = sign
        x0, y0 = face % 3 / 3 + 0.02, face // 3 / 2 + 0.02
        flat = [(x0, y0), (x0 + 0.28, y0), (x0 + 0.28, y0 + 0.28), (x0, y0 + 0.28)]
        for cut in ((0, 1, 2), (0, 2, 3)):
            positions.append([corners[k] for k in cut])
            normals.append([n] * 3)
            uvs.append([flat[k] for k in cut])
    return soup(positions, normals, uvs, name)


def ribbed(name, height=0.0, across=0, ribs=4):
    """The plane with normals that lean to and fro by 35 degrees, along u or v: its detail is seen where it is wrong."""

    def normal(u, v):
        lean = np.radians(35) * np.sin(2 * np.pi * ribs * (v if across else u))
        return (0 * u, np.sin(lean), np.cos(lean)) if across else (np.sin(lean), 0 * u, np.cos(lean))

    return replace(grid_mesh(64, 64, lambda u, v: (u, v, 0 * u + height), name, normal=normal), uvs=())


def rounded_box(radius=0.1):
    """A box of side 1 whose edges and corners are rounded."""
    sides = []
    for turn in [
        np.roll(np.eye(3), axis, axis=1) @ np.diag(way) for axis in range(3) for way in ((1, 1, 1), (-1, 1, -1))
    ]:

        def point(u, v, turn=turn):
            outer = np.einsum("ij,juv->iuv", turn, np.stack([u - 0.5, v - 0.5, 0 * u + 0.5]))
            inner = np.clip(outer, radius - 0.5, 0.5 - radius)
            away = outer - inner
            return inner + radius * away / np.linalg.norm(away, axis=0)

        sides.append(grid_mesh(80, 80, point))
    return with_normals(replace(merge(sides, "high"), uvs=(), normals=None))


def around_cube(off):
    """Ribbed plates that stand off the faces of the cube of side 1 and meet at its edges."""
    plates = []
    for axis in range(3):
        for side in (-1, 1):
            plate = ribbed(f"{axis}{side}", 0.5 + off, ribs=8)
            place = (plate.positions - np.array([0.5, 0.5, 0])) * np.array([1 + 2 * off, 1 + 2 * off, 1])
            plate = replace(plate, positions=place)
            turn = np.roll(np.eye(3), axis, axis=1)
            turn = turn if side > 0 else turn @ np.diag([-1, 1, -1])  # half around
            normals = replace(plate.normals, values=(plate.normals.values @ turn.T).astype(np.float32))
            plates.append(replace(plate, positions=(plate.positions @ turn.T).astype(np.float32), normals=normals))
    return merge(plates, "high")


def hard_cube(size):
    return with_normals(cube(size))


def many_rings(count: int, around: int, across: int, suffix: str) -> Mesh:
    """Rings in rows, each an object of its own with its UVs in a cell of the sheet."""
    side, rings = int(np.ceil(np.sqrt(count))), []
    for n in range(count):
        ring, cell = torus(around, across, name=f"ring{n:03}{suffix}"), np.array(divmod(n, side), np.float32)
        uv = replace(ring.uvs[0], values=(0.05 + 0.9 * ring.uvs[0].values + cell) / side)
        rings.append(replace(ring, positions=ring.positions + np.float32([7 * cell[0], 7 * cell[1], 0]), uvs=(uv,)))
    return merge(rings, "rings")
