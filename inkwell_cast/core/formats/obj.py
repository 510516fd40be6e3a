"""Wavefront OBJ, with the names and diffuse colours of its MTL.

Kept: polygons (cut by `polygons`), per-corner UVs and normals, object or group names, materials, vertex colours
written after the position. Names: `o` lines; in a file without them, `g` lines. Two passes of compiled code, one to
count and one to fill.
"""

import math
import pathlib
from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, I64, U8
from ..base.errors import InputProblem
from ..base.kernels import kernel
from ..mesh import textures
from ..mesh.mesh import NO_VALUE, CornerValues, Mesh
from ..mesh.textures import Texture
from ..mesh.triangulation import corner_rows, triangulate
from .files_beside import picture_in
from .numbers_in_text import decoded, is_space, read_number
from .reading_budget import Budget

SUFFIXES = (".obj",)


V, VT, VN, FACE, NAME, OTHER = 1, 2, 3, 4, 5, 0


BYTE_ORDER_MARK = b"\xef\xbb\xbf"


_ABSENT = np.iinfo(np.int64).min


LONGEST_LINE = 4096  # of a name


FAULTS = {
    1: "a number cannot be read",
    2: "a face names a vertex that is not there",
    3: "a face names a UV that is not there",
    4: "a face names a normal that is not there",
}


def read(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read one file as one mesh. Raises InputProblem with the line at fault."""
    given = np.fromfile(path, np.uint8)
    data = _joined_lines(given)
    vertices, uvs, normals, faces, corners, names = (int(c) for c in _count(data))
    budget.take(max(vertices, uvs, normals), max(corners - 2 * faces, faces))
    if faces == 0 or vertices == 0:
        raise InputProblem(
            path.name,
            f"No faces were found ({vertices:,} vertices, {faces:,} faces).",
            "Export the mesh with its faces.",
        )
    out = (
        np.empty((vertices, 6), np.float32),
        np.zeros((uvs, 2), np.float32),
        np.empty((normals, 3), np.float32),
        np.empty(faces, np.int64),
        np.full((corners, 3), NO_VALUE, np.int64),
        np.empty((names, 2), np.int64),
    )
    budget.look()
    fault, at, colored, filled, used = _fill(data, *out, budget.origin)
    if fault:
        line = int(np.count_nonzero(given[:at] == 10)) + 1
        raise InputProblem(path.name, f"Line {line:,}: {FAULTS[fault]}.", "Export the file again.")
    if filled < faces:
        budget.note(f"{faces - filled:,} faces have fewer than three corners and were left out.")
    if not filled:
        raise InputProblem(path.name, "None of its faces has three corners.", "Export the mesh with its faces.")
    points, flat, normal, sizes, rows, marks = out
    budget.look()
    return _assemble(path, data, colored == vertices, points, flat, normal, sizes[:filled], rows[:used], marks)


def _joined_lines(data: U8) -> U8:
    """Lines that end in a backslash go on in the next one; a byte-order mark is passed over. Places stay the same."""
    if data[:3].tobytes() == BYTE_ORDER_MARK:
        data[:3] = 32
    if not (data == 92).any():
        return data
    text = data.tobytes().replace(b"\\\r\n", b"   ").replace(b"\\\n", b"  ")
    return np.frombuffer(bytearray(text), np.uint8)  # one that may be written to, as any other: no kernels of its own


@kernel
def _line_kind(data: U8, i: int, end: int) -> tuple[int, int]:
    """What a line holds, and where its content starts."""
    a = data[i]
    b = data[i + 1] if i + 1 < end else 10
    if a == 118:  # v
        if is_space(b):
            return V, i + 1
        c = data[i + 2] if i + 2 < end else 10
        if b == 116 and is_space(c):
            return VT, i + 2
        if b == 110 and is_space(c):
            return VN, i + 2
        return OTHER, i
    if a == 102 and is_space(b):
        return FACE, i + 1
    if (a == 111 or a == 103) and (is_space(b) or b == 10):  # o, g
        return NAME, i
    if a == 117 and b == 115 and i + 6 < end and data[i + 2] == 101 and data[i + 3] == 109:  # usemtl
        return NAME, i
    if a == 109 and b == 116 and i + 6 < end and data[i + 2] == 108:  # mtllib
        return NAME, i
    return OTHER, i


@kernel
def _end_of_line(data: U8, i: int, end: int) -> int:
    while i < end and data[i] != 10:
        i += 1
    return i


@kernel
def _count(data: U8) -> I64:
    counts = np.zeros(6, np.int64)
    i, end = 0, len(data)
    while i < end:
        while i < end and (is_space(data[i]) or data[i] == 10):
            i += 1
        if i >= end:
            break
        kind, at = _line_kind(data, i, end)
        if kind == FACE:
            counts[3] += 1
            inside = False
            while at < end and data[at] != 10 and data[at] != 35:
                space = is_space(data[at])
                if not space and not inside:
                    counts[4] += 1
                inside = not space
                at += 1
        elif kind == NAME:
            counts[5] += 1
        elif kind != OTHER:
            counts[kind - 1] += 1
        i = _end_of_line(data, at, end) + 1
    return counts


@kernel
def _skip(data: U8, i: int, end: int) -> int:
    while i < end and is_space(data[i]):
        i += 1
    return i


@kernel
def _read_row(data: U8, at: int, end: int, row: F64) -> int:
    """Fill `row` with the numbers of a line; how many there were, or -1 where one cannot be read."""
    count = 0
    while True:
        at = _skip(data, at, end)
        if at >= end or data[at] == 10 or data[at] == 35 or count == len(row):
            return count
        value, after = read_number(data, at, end)
        if after < 0:
            return -1
        row[count] = value
        count += 1
        at = after


@kernel
def _read_corner(data: U8, at: int, end: int, row: I64) -> int:
    """One `v/vt/vn` of a face; the place after it, or -1."""
    for k in range(3):
        row[k] = _ABSENT
    for k in range(3):
        negative = at < end and data[at] == 45
        if negative:
            at += 1
        value, seen = np.int64(0), False
        while at < end and 48 <= data[at] <= 57:
            value = min(value * 10 + np.int64(data[at] - 48), np.int64(1) << 40)
            seen = True
            at += 1
        if seen:
            row[k] = -value if negative else value
        elif k == 0 or negative:
            return -1
        if at >= end or data[at] != 47:
            break
        at += 1
    if at < end and not is_space(data[at]) and data[at] != 10 and data[at] != 35:
        return -1
    return at


@kernel
def _fill_face(
    data: U8, at: int, corners: I64, nc: int, before: tuple[int, int, int], limits: tuple[int, int, int], ids: I64
) -> tuple[int, int, int]:
    """Read the corners of a face into corners[nc:]: (fault or 0, the place after them, the row after the last).

    `before` are the vertices, UVs and normals so far, from which negative numbers count; `limits` those of the file.
    """
    end = len(data)
    while True:
        at = _skip(data, at, end)
        if at >= end or data[at] == 10 or data[at] == 35:
            return 0, at, nc
        at = _read_corner(data, at, end, ids)
        if at < 0:
            return 1, at, nc
        for k in range(3):
            if ids[k] == _ABSENT:
                continue
            place = ids[k] - 1 if ids[k] > 0 else before[k] + ids[k]
            if ids[k] == 0 or place < 0 or place >= limits[k]:
                return 2 + k, at, nc
            corners[nc, k] = place
        nc += 1


# fault or 0, its place in data, vertices with a colour, faces and corners that were filled
Filled = tuple[int, int, int, int, int]


@kernel
def _fill(data: U8, points: F32, uvs: F32, normals: F32, sizes: I64, corners: I64, names: I64, origin: F64) -> Filled:
    """Fill the arrays; places count from `origin`.

    A vertex is x y z, x y z w (the weight is passed over), x y z r g b or x y z w r g b.
    """
    row, ids = np.empty(7, np.float64), np.empty(3, np.int64)
    nv = nt = nn = nf = nc = nm = colored = 0
    i, end = 0, len(data)
    while i < end:
        i = _skip(data, i, end)
        if i >= end:
            break
        kind, at = (OTHER, i) if data[i] == 10 else _line_kind(data, i, end)
        if kind == V:
            count = _read_row(data, at, end, row)
            if count < 3:
                return 1, i, 0, 0, 0
            for k in range(3):
                points[nv, k] = row[k] - origin[k]
                points[nv, 3 + k] = row[count - 3 + k] if count >= 6 else 0.0
            colored += 1 if count >= 6 else 0
            nv += 1
        elif kind == VT:
            count = _read_row(data, at, end, row)
            if count < 1:
                return 1, i, 0, 0, 0
            for k in range(min(count, 2)):
                uvs[nt, k] = row[k]
            nt += 1
        elif kind == VN:
            if _read_row(data, at, end, row) < 3:
                return 1, i, 0, 0, 0
            for k in range(3):
                normals[nn, k] = row[k]
            nn += 1
        elif kind == FACE:
            limits = (len(points), len(uvs), len(normals))
            fault, at, last = _fill_face(data, at, corners, nc, (nv, nt, nn), limits, ids)
            if fault:
                return fault, i, 0, 0, 0
            if last - nc < 3:
                corners[nc:last] = NO_VALUE
            else:
                sizes[nf] = last - nc
                nf, nc = nf + 1, last
        elif kind == NAME:
            names[nm, 0], names[nm, 1] = i, nf
            nm += 1
        i = _end_of_line(data, at, end) + 1
    return 0, 0, colored, nf, nc


def _assemble(
    path: pathlib.Path,
    data: U8,
    colored: bool,
    points: F32,
    uvs: F32,
    normals: F32,
    sizes: I64,
    corners: I64,
    names: I64,
) -> Mesh:
    positions = np.ascontiguousarray(points[:, :3])
    picks, faces = triangulate(sizes, corners[:, 0], positions)
    triangles = corner_rows(corners[:, 0], picks)
    objects, object_names, materials, material_names, library = _names(path, data, names, len(sizes))
    looks = _materials(path, library, material_names)
    colors = None
    if colored:
        rgba = np.concatenate([points[:, 3:], np.ones((len(points), 1), np.float32)], axis=1)
        colors = CornerValues(rgba, triangles)
    return Mesh(
        path.name,
        positions,
        triangles,
        normals=CornerValues(normals, corner_rows(corners[:, 2], picks)) if len(normals) else None,
        uvs=(CornerValues(uvs, corner_rows(corners[:, 1], picks)),) if len(uvs) else (),
        colors=colors,
        polygons=faces.astype(np.int32) if len(faces) > len(sizes) else None,
        objects=objects[faces],
        object_names=object_names,
        materials=materials[faces],
        material_names=material_names,
        material_colors=looks.colors["Kd"],
        color_space="srgb",
        textures=tuple(looks.pictures["Kd"]),
        emission_colors=looks.colors["Ke"],
        emission_textures=tuple(looks.pictures["Ke"]),
    )


def _names(
    path: pathlib.Path, data: U8, names: I64, faces: int
) -> tuple[I32, tuple[str, ...], I32, tuple[str, ...], list[str]]:
    """Object and material of every face."""
    lines = []
    for start, face in names.tolist():
        line = data[start : start + LONGEST_LINE].tobytes().partition(b"\n")[0]
        word, _, rest = decoded(line).replace("\t", " ").partition(" ")
        lines.append((word.strip(), rest.strip(), face))
    keyword = "o" if any(word == "o" for word, _, _ in lines) else "g"
    objects, object_names = _runs([(n, f) for w, n, f in lines if w == keyword], faces)
    materials, material_names = _runs([(n, f) for w, n, f in lines if w == "usemtl"], faces)
    return objects, object_names, materials, material_names, [n for w, n, _ in lines if w == "mtllib"]


def _runs(marks: list[tuple[str, int]], faces: int) -> tuple[I32, tuple[str, ...]]:
    index: dict[str, int] = {}
    out = np.zeros(faces, np.int32)
    marks = [("", 0), *marks]
    for n, (name, first) in enumerate(marks):
        last = marks[n + 1][1] if n + 1 < len(marks) else faces
        if last > first:
            out[first:last] = index.setdefault(name, len(index))
    return out, tuple(index)


@dataclass(frozen=True, slots=True)
class _Looks:
    """Of each material, by the word of the file: Kd what it reflects, Ke what it sends out."""

    colors: dict[str, F32]
    pictures: dict[str, list[Texture | None]]


def _materials(path: pathlib.Path, libraries: list[str], names: tuple[str, ...]) -> _Looks:
    """Colours and textures from the material file beside the mesh; grey and dark where it is missing or silent.

    A texture (map_Kd, map_Ke) takes the colour's place; options before its name are passed over.
    """
    count = len(names)
    looks = _Looks(
        {"Kd": np.full((count, 3), 0.5, np.float32), "Ke": np.zeros((count, 3), np.float32)},
        {"Kd": [None] * count, "Ke": [None] * count},
    )
    row = {name: n for n, name in enumerate(names)}
    for library in dict.fromkeys(libraries):
        beside = path.parent / pathlib.PurePath(library.replace("\\", "/")).name
        if not beside.is_file():
            continue
        current = ""
        for line in decoded(beside.read_bytes()).splitlines():
            word, _, rest = line.strip().partition(" ")
            if word == "newmtl":
                current = rest.strip()
            elif word in looks.colors and current in row:
                try:
                    rgb = [float(x) for x in rest.split()[:3]]
                except ValueError:
                    continue
                if len(rgb) == 3 and all(math.isfinite(x) for x in rgb):
                    looks.colors[word][row[current]] = rgb
            elif word.removeprefix("map_") in looks.colors and current in row and rest.strip():
                name = picture_in(rest)
                data = textures.beside(path, name)
                if data is not None:
                    looks.pictures[word.removeprefix("map_")][row[current]] = textures.texture_of(name, data)
    return looks
