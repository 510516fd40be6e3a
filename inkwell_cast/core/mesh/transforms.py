"""Meshes moved, turned over and put in order."""

from dataclasses import replace

import numpy as np

from ..base.array_types import F32, F64, I32, AnyArray
from .mesh import NO_OFFSET, CornerValues, Mesh


def transformed(mesh: Mesh, matrix: F64) -> Mesh:
    """The mesh under an affine `matrix (4, 4)`; a mirroring one turns the winding and the tangents' signs over.

    What its positions count from is taken in, in 64 bits.
    """
    if np.array_equal(matrix, np.eye(4)) and mesh.origin == NO_OFFSET:
        return mesh
    linear, mirrored = matrix[:3, :3], np.linalg.det(matrix[:3, :3]) < 0

    def turn(layer: CornerValues | None, by: AnyArray) -> CornerValues | None:
        if layer is None:
            return None
        values = layer.values.copy()
        values[:, :3] = _unit(values[:, :3] @ by)
        if mirrored and values.shape[1] == 4:
            values[:, 3] *= -1
        return CornerValues(values, layer.corners)

    moved = replace(
        mesh,
        positions=np.asarray(mesh.positions @ linear.T + (linear @ mesh.origin + matrix[:3, 3]), np.float32),
        origin=NO_OFFSET,
        normals=turn(mesh.normals, np.linalg.pinv(linear)),
        tangents=turn(mesh.tangents, linear.T),
    )
    return turned_over(moved) if mirrored else moved


def turned_over(mesh: Mesh) -> Mesh:
    """The mesh with the winding of every triangle reversed."""

    def back(layer: CornerValues | None) -> CornerValues | None:
        return CornerValues(layer.values, np.ascontiguousarray(layer.corners[:, ::-1])) if layer else None

    return replace(
        mesh,
        triangles=np.ascontiguousarray(mesh.triangles[:, ::-1]),
        normals=back(mesh.normals),
        uvs=tuple(uv for layer in mesh.uvs if (uv := back(layer))),
        tangents=back(mesh.tangents),
        colors=back(mesh.colors),
    )


def _unit(rows: AnyArray) -> F32:
    length = np.linalg.norm(rows, axis=1, keepdims=True)
    return np.asarray(np.divide(rows, length, out=np.zeros_like(rows), where=length > 0), np.float32)


def one_name_each(mesh: Mesh) -> Mesh:
    """Join objects and materials of the same name, which primitives repeat."""
    objects, object_names = _renumber(mesh.objects, mesh.object_names)
    materials, material_names = _renumber(mesh.materials, mesh.material_names)
    if object_names == mesh.object_names and material_names == mesh.material_names:
        return mesh
    first = {name: n for n, name in reversed(list(enumerate(mesh.material_names)))}
    firsts = [first[name] for name in material_names]
    return replace(
        mesh,
        objects=objects,
        object_names=object_names,
        materials=materials,
        material_names=material_names,
        textures=tuple(mesh.textures[n] for n in firsts),
        material_colors=mesh.material_colors[firsts],
        emission_textures=tuple(mesh.emission_textures[n] for n in firsts),
        emission_colors=mesh.emission_colors[firsts],
    )


def _renumber(rows: I32, names: tuple[str, ...]) -> tuple[I32, tuple[str, ...]]:
    index: dict[str, int] = {}
    new = np.array([index.setdefault(n, len(index)) for n in names], np.int32)
    return (rows if len(index) == len(names) else new[rows]), tuple(index)
