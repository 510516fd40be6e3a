"""Writing OBJ, with an MTL for its materials."""

import pathlib
import re
from typing import TextIO

import numpy as np

from ..base.array_types import F32, F64
from ..mesh.mesh import NO_OFFSET, NO_VALUE, Mesh, positions_in_file
from ..mesh.vertex_colors import colors_in


def write(path: pathlib.Path, mesh: Mesh) -> None:
    """Write a mesh with its first UV channel, normals, objects, materials (colours in an MTL beside it) and colours.

    Nine digits, so that float32 comes back exactly. Vertex colours are written where each vertex has one.
    """
    library = path.with_suffix(".mtl")
    named = [n for n in mesh.material_names if n]
    if named:
        lines = [
            f"newmtl {_on_one_line(n)}\nKd {_numbers(color)}\n" + (f"Ke {_numbers(sent)}\n" if any(sent) else "")
            for n, color, sent in zip(
                mesh.material_names, mesh.material_colors.tolist(), mesh.emission_colors.tolist(), strict=True
            )
            if n
        ]
        library.write_text("\n".join(lines), "utf-8")
    with path.open("w", encoding="utf-8", newline="\n") as file:
        if named:
            file.write(f"mtllib {_on_one_line(library.name)}\n")
        colors = _colors_by_vertex(mesh)
        positions, figures = positions_in_file(mesh), ".9g" if mesh.origin == NO_OFFSET else ".17g"
        rows = positions if colors is None else np.concatenate([positions, colors], axis=1)
        _write_rows(file, "v", rows, figures)
        if mesh.uvs:
            _write_rows(file, "vt", mesh.uvs[0].values)
        if mesh.normals:
            _write_rows(file, "vn", mesh.normals.values)
        _write_faces(file, mesh)


def _numbers(values: list[float]) -> str:
    return " ".join(format(value, ".9g") for value in values)


def _write_faces(file: TextIO, mesh: Mesh) -> None:
    uvs = (mesh.uvs[0].corners + 1).tolist() if mesh.uvs else None
    normals = (mesh.normals.corners + 1).tolist() if mesh.normals else None
    objects, materials = mesh.objects.tolist(), mesh.materials.tolist()
    last = (-1, -1)
    for f, triangle in enumerate((mesh.triangles + 1).tolist()):
        here = objects[f], materials[f]
        if here[0] != last[0]:
            file.write(f"o {_on_one_line(mesh.object_names[here[0]])}\n")
        if here != last and mesh.material_names[here[1]]:
            file.write(f"usemtl {_on_one_line(mesh.material_names[here[1]])}\n")
        last = here
        words = []
        for i, vertex in enumerate(triangle):
            uv = str(uvs[f][i]) if uvs is not None and uvs[f][i] else ""
            normal = str(normals[f][i]) if normals is not None and normals[f][i] else ""
            words.append(f"{vertex}/{uv}/{normal}".rstrip("/"))
        file.write(f"f {' '.join(words)}\n")


def _on_one_line(name: str) -> str:
    """A name that cannot end its line, nor go on in the next one."""
    return re.sub(r"[\x00-\x1f\x7f\x85\u2028\u2029]", "_", name).rstrip("\\") or "_"


def _colors_by_vertex(mesh: Mesh) -> F32 | None:
    """One colour a vertex (V, 3), or None where there are none or a vertex has several."""
    if mesh.colors is None or not mesh.colors.complete:
        return None
    rows = np.full(len(mesh.positions), NO_VALUE, np.int32)
    rows[mesh.triangles] = mesh.colors.corners
    values = colors_in(mesh, "srgb")
    if not np.array_equal(values[rows[mesh.triangles]], values[mesh.colors.corners]):
        return None
    return np.where(rows[:, None] < 0, np.float32(1), values[rows, :3]).astype(np.float32)


def _write_rows(file: TextIO, word: str, rows: F32 | F64, figures: str = ".9g") -> None:
    file.writelines(f"{word} {' '.join(format(x, figures) for x in row)}\n" for row in rows.tolist())
