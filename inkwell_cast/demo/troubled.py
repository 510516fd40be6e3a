"""The troubled inkstand: the inkstand with one example of each trouble that checks find, for learning and for tests."""

import pathlib
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from ..core.checks.uv_area import signed_area
from ..core.formats import write_mesh
from ..core.mesh.mesh import Mesh, subset, values_at_corners
from ..core.mesh.normals import face_normals
from . import inkstand

TITLE = "Troubled inkstand"
FILES = "troubled_low.glb", "troubled_high.glb"

# what was done to which part: the check that finds it, the part, and the words for the guide
TROUBLES = (
    ("pairs", "hinge_rihgt_high", "its name has a typing error, so it finds no low"),
    ("faceted", "pen_rest_high", "exported with flat shading"),
    ("winding", "foot_1_high", "its faces look inward"),
    ("borders", "well_right_high", "a piece of its bottom is missing"),
    ("doubles", "tray_high", "one border lies a hair beside its neighbour and is not joined to it"),
    ("hard_edges", "foot_2_low", "every edge is hard, also inside UV islands"),
    ("overlaps", "foot_3_low", "its islands were pushed half over those of another foot"),
    ("tiles", "lid_right_low", "its UVs lie one tile to the right"),
    ("uv_area", "plate_low", "one triangle of its unwrap is folded over"),
    ("stray", "foot_4_low", "it is much thicker than its sculpt"),
)


def build() -> tuple[Mesh, Mesh]:
    """The low and the high, with every trouble of `TROUBLES`."""
    low, high = inkstand.build()
    high = _renamed(high, "hinge_right_high", "hinge_rihgt_high")
    high = _flat(high, "pen_rest_high")
    high = _turned_over(high, "foot_1_high")
    high = _holed(high, "well_right_high")
    high = _cracked(high, "tray_high")
    low = _flat(low, "foot_2_low")
    other = low.uvs[0].at_corners()[_rows(low, "foot_4_low")]
    low = _with_uvs(low, "foot_3_low", lambda uv: other + np.float32(0.006))
    low = _with_uvs(low, "lid_right_low", lambda uv: uv + np.array([1.0, 0.0], np.float32))
    low = _with_uvs(low, "plate_low", _folded)
    low = _swollen(low, "foot_4_low")
    return replace(low, name=FILES[0]), replace(high, name=FILES[1])


def _rows(mesh: Mesh, part: str) -> np.ndarray:  # type: ignore[type-arg]
    return np.asarray(mesh.objects == mesh.object_names.index(part))


def _renamed(mesh: Mesh, part: str, name: str) -> Mesh:
    return replace(mesh, object_names=tuple(name if n == part else n for n in mesh.object_names))


def _flat(mesh: Mesh, part: str) -> Mesh:
    assert mesh.normals is not None
    rows, normals = _rows(mesh, part), mesh.normals.at_corners()
    normals[rows] = face_normals(mesh.positions, mesh.triangles)[rows, None]
    return replace(mesh, normals=values_at_corners(normals))


def _turned_over(mesh: Mesh, part: str) -> Mesh:
    assert mesh.normals is not None
    rows, triangles, normals = _rows(mesh, part), mesh.triangles.copy(), mesh.normals.at_corners()
    triangles[rows] = triangles[rows, ::-1]
    normals[rows] = -normals[rows, ::-1]
    return replace(mesh, triangles=triangles, normals=values_at_corners(normals))


def _holed(mesh: Mesh, part: str) -> Mesh:
    rows = _rows(mesh, part)
    centre = mesh.positions[mesh.triangles].mean(axis=1)
    lowest = centre[rows, 1].min()
    x = centre[rows, 0].mean()
    hole = rows & (centre[:, 1] < lowest + 1) & (np.abs(centre[:, 0] - x - 12) < 5) & (np.abs(centre[:, 2]) < 20)
    return subset(mesh, ~hole)


def _cracked(mesh: Mesh, part: str) -> Mesh:
    """Move the vertices of one patch's border by less than anyone sees."""
    rows = _rows(mesh, part)
    used = np.unique(mesh.triangles[rows])
    top = used[: len(used) // 6]  # the patches follow one another, the first is the top
    positions = mesh.positions.copy()
    edge = np.abs(positions[top, 0]) > np.abs(positions[top, 0]).max() - 1e-3
    positions[top[edge], 1] += 5e-4
    return replace(mesh, positions=positions)


def _with_uvs(mesh: Mesh, part: str, change: Callable) -> Mesh:  # type: ignore[type-arg]
    uvs, rows = mesh.uvs[0].at_corners(), _rows(mesh, part)
    uvs[rows] = change(uvs[rows])
    return replace(mesh, uvs=(values_at_corners(uvs), *mesh.uvs[1:]))


def _folded(uvs: np.ndarray) -> np.ndarray:  # type: ignore[type-arg]
    """Push one corner across the opposite side; its neighbours keep theirs, so it folds over them."""
    area = np.abs(signed_area(uvs))
    smallest = int(np.argmin(area))
    corner = uvs[smallest, 0].copy()
    across = uvs[smallest, 1] + uvs[smallest, 2] - corner
    moved = corner + 0.7 * (across - corner)
    out = uvs.copy()
    out[(uvs == corner).all(axis=2)] = moved
    return out


def _swollen(mesh: Mesh, part: str) -> Mesh:
    rows = _rows(mesh, part)
    used = np.unique(mesh.triangles[rows])
    positions = mesh.positions.copy()
    centre = positions[used].mean(axis=0)
    positions[used] = centre + (positions[used] - centre) * np.array([1.5, 1.0, 1.5], np.float32)
    return replace(mesh, positions=positions)


def write(folder: pathlib.Path) -> tuple[pathlib.Path, ...]:
    """Write the two files; returns their paths, low first."""
    paths = tuple(folder / name for name in FILES)
    for path, mesh in zip(paths, build(), strict=True):
        write_mesh(path, mesh)
    return paths
