"""Writing PLY, binary little-endian."""

import pathlib

import numpy as np

from ..base.array_types import AnyArray
from ..mesh.mesh import NO_OFFSET, Mesh, positions_in_file
from ..mesh.vertex_colors import colors_in
from .ply import COLOR_NAMES


def write(path: pathlib.Path, mesh: Mesh, form: str = "binary_little_endian") -> None:
    """Write positions, normals, first UV channel and colours; `form` as in a PLY header.

    PLY keeps one value a vertex, so vertices are split where normals, UVs or colours differ.
    """
    rows, triangles = _split(mesh)
    names = ["x", "y", "z"]
    columns = [positions_in_file(mesh)[rows[0]]]
    place = "float" if mesh.origin == NO_OFFSET else "double"  # in which the file is to be read again
    for layer, row, labels in (
        (mesh.normals, rows[1], ["nx", "ny", "nz"]),
        (mesh.uvs[0] if mesh.uvs else None, rows[2], ["s", "t"]),
    ):
        if layer is not None:
            names += labels
            columns.append(layer.values[row])
    table = np.concatenate(columns, axis=1)
    colors = np.rint(np.clip(colors_in(mesh, "srgb")[rows[3]], 0, 1) * 255).astype(np.uint8) if mesh.colors else None
    figures = ".9g" if place == "float" else ".17g"
    header = [
        "ply",
        f"format {form} 1.0",
        f"element vertex {len(table)}",
        *(f"property {place if n in 'xyz' else 'float'} {n}" for n in names),
    ]
    if colors is not None:
        header += [f"property uchar {n}" for n in COLOR_NAMES]
    header += [f"element face {len(triangles)}", "property list uchar int vertex_indices", "end_header", ""]
    with path.open("wb") as file:
        file.write("\n".join(header).encode())
        if form == "ascii":
            for i, row in enumerate(table.tolist()):
                tail = " " + " ".join(map(str, colors[i].tolist())) if colors is not None else ""
                file.write((" ".join(format(x, figures) for x in row) + tail + "\n").encode())
            file.writelines(f"3 {a} {b} {c}\n".encode() for a, b, c in triangles.tolist())
            return
        order = ">" if form == "binary_big_endian" else "<"
        wide = order + ("f4" if place == "float" else "f8")
        kind = [("p", wide, (3,)), ("f", order + "f4", (table.shape[1] - 3,))]
        vertices = np.empty(len(table), kind + ([("c", "u1", (4,))] if colors is not None else []))
        vertices["p"], vertices["f"] = table[:, :3], table[:, 3:]
        if colors is not None:
            vertices["c"] = colors
        faces = np.empty(len(triangles), [("n", "u1"), ("v", order + "i4", (3,))])
        faces["n"], faces["v"] = 3, triangles
        vertices.tofile(file)
        faces.tofile(file)


def _split(mesh: Mesh) -> tuple[list[AnyArray], AnyArray]:
    """Rows of positions, normals, UVs and colours for each written vertex, and triangles over those vertices."""
    layers = [mesh.triangles] + [
        layer.corners if layer else np.zeros_like(mesh.triangles)
        for layer in (mesh.normals, mesh.uvs[0] if mesh.uvs else None, mesh.colors)
    ]
    if all(np.array_equal(c, mesh.triangles) or not c.any() for c in layers):
        same = np.arange(len(mesh.positions))
        return [same if n == 0 or c.any() else np.zeros_like(same) for n, c in enumerate(layers)], mesh.triangles
    keys = np.stack([c.reshape(-1) for c in layers], axis=1)
    unique, place = np.unique(keys, axis=0, return_inverse=True)
    return list(unique.T), place.reshape(-1, 3).astype(np.int32)
