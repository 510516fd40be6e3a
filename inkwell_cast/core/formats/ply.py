"""PLY: ASCII, binary little-endian and binary big-endian.

Kept: positions, normals, UVs (s t, u v or texture_u texture_v a vertex; a texcoord list a face), colours a vertex,
polygons (cut by `polygons`). Binary files are mapped, so that reading costs one pass over their bytes.
"""

import pathlib
from dataclasses import dataclass, field

import numpy as np

from ..base.array_types import F32, F64, I32, I64, U8, AnyArray, Bool
from ..base.errors import InputProblem
from ..base.kernel_types import Whole
from ..base.kernels import kernel, prange
from ..mesh.mesh import CornerValues, Mesh, values_at_corners
from ..mesh.triangulation import corner_rows, triangulate
from .numbers_in_text import is_space, read_all, read_number
from .reading_budget import Budget

SUFFIXES = (".ply",)


TYPES = {
    "char": "i1", "uchar": "u1", "short": "i2", "ushort": "u2", "int": "i4", "uint": "u4", "float": "f4",
    "double": "f8", "int8": "i1", "uint8": "u1", "int16": "i2", "uint16": "u2", "int32": "i4", "uint32": "u4",
    "float32": "f4", "float64": "f8",
}  # fmt: skip


UV_NAMES = (("s", "t"), ("u", "v"), ("texture_u", "texture_v"))


COLOR_NAMES = ("red", "green", "blue", "alpha")


@dataclass
class _Property:
    name: str
    kind: str
    count: str = ""  # type of the length, for lists


@dataclass
class _Element:
    name: str
    rows: int
    properties: list[_Property] = field(default_factory=list)

    @property
    def flat(self) -> bool:
        return not any(p.count for p in self.properties)


def read(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read one file as one mesh. Raises InputProblem for a header or a length that does not fit."""
    form, elements, start = _header(path)
    for element in elements:
        _refuse_empty_promises(path, element, start, form == "ascii")
    rows = {element.name: element.rows for element in elements}
    budget.take(rows.get("vertex", 0), rows.get("face", 0))
    bodies = _ascii_bodies(path, elements, start) if form == "ascii" else _binary_bodies(path, form, elements, start)
    vertex, face = bodies.get("vertex"), bodies.get("face")
    if vertex is None or not {"x", "y", "z"} <= set(vertex):
        raise InputProblem(path.name, "It has no vertices with x, y and z.", "Export it again as a mesh.")
    positions = _columns(vertex, ("x", "y", "z"), budget.origin)
    lists = next((face[n] for n in ("vertex_indices", "vertex_index") if face and n in face), None)
    if lists is None or len(positions) == 0 or len(lists[0]) == 0:
        raise InputProblem(path.name, "It holds points but no faces.", "Export the mesh with its faces.")
    counts, indices = lists
    if indices.dtype != np.int32:
        with np.errstate(invalid="ignore"):
            indices = indices.astype(np.int32)  # numbers past two thousand million turn negative, refused below
    low, high = extremes(indices)
    if low < 0 or high >= len(positions):
        raise InputProblem(
            path.name,
            f"A face names vertex {high if low >= 0 else low}, but there are {len(positions):,}.",
            "The file is damaged; export it again.",
        )
    if len(counts) and counts.min() == 3 and counts.max() == 3:
        picks, polygons, triangles = None, None, np.ascontiguousarray(indices).reshape(-1, 3)
    else:
        budget.take(faces=int(np.maximum(counts.astype(np.int64) - 3, 0).sum()))
        picks, polygons = triangulate(counts.astype(np.int64), indices.astype(np.int64), positions)
        triangles = corner_rows(indices, picks)
    normals = (
        CornerValues(_columns(vertex, ("nx", "ny", "nz")), triangles) if {"nx", "ny", "nz"} <= set(vertex) else None
    )
    return Mesh(
        path.name, positions, triangles, normals=normals,
        uvs=_uvs(path, vertex, face or {}, counts, picks, triangles), colors=_colors(vertex, triangles),
        color_space="srgb", object_names=("",),
        polygons=polygons.astype(np.int32) if polygons is not None and len(polygons) > len(counts) else None,
    )  # fmt: skip


@kernel(parallel=True)
def extremes(values: I32) -> tuple[Whole, Whole]:
    """Lowest and highest of some whole numbers (N,) int32."""
    low, high = np.int32(2**31 - 1), np.int32(-(2**31))
    for i in prange(len(values)):
        low = min(low, values[i])
        high = max(high, values[i])
    return low, high


def _header(path: pathlib.Path) -> tuple[str, list[_Element], int]:
    size = path.stat().st_size
    with path.open("rb") as file:
        if file.readline().strip() != b"ply":
            raise InputProblem(path.name, "It does not begin like a PLY file.", "Export it again as PLY.")
        form, elements = "", list[_Element]()
        for _ in range(1000):
            words = file.readline(4096).decode("ascii", "replace").split()
            if not words or words[0] in ("comment", "obj_info"):
                continue
            try:
                if words[0] == "format":
                    form = {"ascii": "ascii", "binary_little_endian": "<", "binary_big_endian": ">"}[words[1]]
                elif words[0] == "element":
                    rows = int(words[2])
                    if not 0 <= rows <= size:
                        raise InputProblem(
                            path.name,
                            f"It says it has {rows:,} {words[1]} rows, but has {size:,} bytes.",
                            "The file is truncated or damaged; export it again.",
                        )
                    elements.append(_Element(words[1], rows))
                elif words[0] == "property" and words[1] == "list":
                    elements[-1].properties.append(_Property(words[4], TYPES[words[3]], TYPES[words[2]]))
                elif words[0] == "property":
                    elements[-1].properties.append(_Property(words[2], TYPES[words[1]]))
                elif words[0] == "end_header" and form:
                    _refuse_doubled_names(path, elements)
                    return form, elements, file.tell()
            except (KeyError, IndexError, ValueError) as error:
                line = " ".join(words)
                raise InputProblem(
                    path.name, f"Its header has a line that means nothing: “{line}”.", "Export it again."
                ) from error
    raise InputProblem(path.name, "Its header has no end.", "The file is damaged; export it again.")


def _refuse_empty_promises(path: pathlib.Path, element: _Element, start: int, text: bool) -> None:
    """Refuse rows that the bytes of the file cannot hold, before anything is made for them."""
    least = [2 if text else np.dtype(p.count or p.kind).itemsize for p in element.properties]
    needed, there = element.rows * sum(least), path.stat().st_size - start + 1
    if needed > there:
        raise InputProblem(
            path.name,
            f"It says it has {element.rows:,} {element.name} rows of {len(least):,} values, which take "
            f"{needed:,} bytes, but has {there:,}.",
            "The file is truncated or damaged; export it again.",
        )


def _refuse_doubled_names(path: pathlib.Path, elements: list[_Element]) -> None:
    for element in elements:
        names = [p.name for p in element.properties]
        for name in names:
            if names.count(name) > 1:
                raise InputProblem(
                    path.name,
                    f"Its header names the property {name} of {element.name} more than once.",
                    "The file is damaged; export it again.",
                )


Body = dict[str, AnyArray | tuple[AnyArray, AnyArray]]


def _binary_bodies(path: pathlib.Path, order: str, elements: list[_Element], start: int) -> dict[str, dict]:  # type: ignore[type-arg]
    data = np.memmap(path, np.uint8, "r") if path.stat().st_size > start else np.zeros(start, np.uint8)
    bodies: dict[str, Body] = {}
    for element in elements:
        if element.flat:
            kind = np.dtype([(p.name, order + p.kind) for p in element.properties])
            size = element.rows * kind.itemsize
            _refuse_short(path, element, start + size, len(data))
            rows = np.frombuffer(data, kind, element.rows, start)
            bodies[element.name] = {name: rows[name] for name in kind.names or ()}
            start += size
        else:
            bodies[element.name], start = _binary_lists(path, order, element, data, start)
    return bodies


def _refuse_short(path: pathlib.Path, element: _Element, needed: int, there: int) -> None:
    if needed > there:
        raise InputProblem(
            path.name,
            f"It ends in the middle of its {element.rows:,} {element.name} rows ({there:,} bytes, {needed:,} needed).",
            "The file is truncated; copy or export it again.",
        )


def _binary_lists(path: pathlib.Path, order: str, element: _Element, data: U8, start: int) -> tuple[Body, int]:
    """An element with lists. Rows that all hold one list of three are viewed in place, others walked."""
    first = element.properties[0]
    if len(element.properties) == 1:
        kind = np.dtype([("n", order + first.count), ("v", order + first.kind, (3,))])
        if start + element.rows * kind.itemsize <= len(data):
            rows = np.frombuffer(data, kind, element.rows, start)
            if kind.itemsize == 13 and order == "<" and first.kind in ("i4", "u4"):
                indices = np.empty((element.rows, 3), np.int32)
                if _copy_triangles(rows["n"], rows["v"].view("<i4"), indices):
                    counts = np.broadcast_to(np.int64(3), element.rows)
                    return {first.name: (counts, indices.reshape(-1))}, start + element.rows * 13
            elif (rows["n"] == 3).all():
                return {first.name: (rows["n"], rows["v"].reshape(-1))}, start + element.rows * kind.itemsize
    lists = np.array([bool(p.count) for p in element.properties])
    count_size = np.array([np.dtype(p.count or "u1").itemsize for p in element.properties])
    item_size = np.array([np.dtype(p.kind).itemsize for p in element.properties])
    lengths = np.zeros((len(lists), element.rows), np.int64)
    places = np.zeros((len(lists), element.rows), np.int64)
    end = _walk(data, start, order == ">", lists, count_size, item_size, lengths, places)
    if end < 0:
        _refuse_short(path, element, len(data) + 1, len(data))
    body: Body = {}
    for k, prop in enumerate(element.properties):
        size = int(item_size[k])
        raw = np.empty(int(lengths[k].sum()) * size, np.uint8)
        _gather(data, places[k], lengths[k] * size, raw)
        values = raw.view(order + prop.kind)
        body[prop.name] = (lengths[k], values) if prop.count else values
    return body, int(end)


@kernel(parallel=True)
def _copy_triangles(counts: U8, indices: I32, out: I32) -> bool:
    """Copy rows of three indices that lie between other bytes; False where a count is not three."""
    other = 0
    for f in prange(len(out)):
        if counts[f] != 3:
            other += 1
        out[f, 0], out[f, 1], out[f, 2] = indices[f, 0], indices[f, 1], indices[f, 2]
    return other == 0


@kernel
def _walk(data: U8, at: int, big: bool, lists: Bool, count_size: I64, item_size: I64, lengths: I64, places: I64) -> int:
    end = len(data)
    for row in range(lengths.shape[1]):
        for k in range(len(lists)):
            n = np.int64(1)
            if lists[k]:
                if at + count_size[k] > end:
                    return -1
                n = np.int64(0)
                for b in range(count_size[k]):
                    n = n * 256 + data[at + (b if big else count_size[k] - 1 - b)]
                at += count_size[k]
            lengths[k, row], places[k, row] = n, at
            at += n * item_size[k]
            if at > end:
                return -1
    return at


@kernel
def _gather(data: U8, places: I64, sizes: I64, out: U8) -> None:
    k = 0
    for row in range(len(places)):
        for b in range(sizes[row]):
            out[k] = data[places[row] + b]
            k += 1


def _ascii_bodies(path: pathlib.Path, elements: list[_Element], start: int) -> dict[str, dict]:  # type: ignore[type-arg]
    data = np.fromfile(path, np.uint8)
    bodies, at = {}, start
    for element in elements:
        body: Body = {}
        if element.flat:
            width = len(element.properties)
            values, filled, at = read_all(data, at, width * element.rows)
            if filled < len(values):
                _refuse_words(path, element, filled // max(width, 1))
            table = values.reshape(element.rows, width)
            body = {p.name: _typed(table[:, k], p.kind) for k, p in enumerate(element.properties)}
        else:
            lists = np.array([bool(p.count) for p in element.properties])
            lengths = np.zeros((len(lists), element.rows), np.int64)
            places = np.zeros((len(lists), element.rows), np.int64)
            values, done, at = _walk_text(data, at, lists, lengths, places)
            if done < element.rows:
                _refuse_words(path, element, done)
            for k, p in enumerate(element.properties):
                picked = values[
                    np.repeat(places[k] - np.cumsum(lengths[k]) + lengths[k], lengths[k]) + np.arange(lengths[k].sum())
                ]
                if p.count:
                    with np.errstate(invalid="ignore"):  # not a number: turns into one that no vertex has
                        whole = picked.astype(np.int64) if np.dtype(p.kind).kind in "iu" else picked
                    body[p.name] = lengths[k], whole
                else:
                    body[p.name] = _typed(picked, p.kind)
        bodies[element.name] = body
    return bodies


def _typed(column: AnyArray, kind: str) -> AnyArray:
    """Numbers of a text file in the type that the header says, held to its range; what is none becomes 0."""
    wanted = np.dtype(kind)
    if wanted.kind not in "iu":
        return column
    limits = np.iinfo(wanted)
    return np.clip(np.nan_to_num(column), limits.min, limits.max).astype(wanted)


def _refuse_words(path: pathlib.Path, element: _Element, row: int) -> None:
    raise InputProblem(
        path.name,
        f"Row {row + 1:,} of {element.rows:,} {element.name} rows is missing or not a number.",
        "The file is truncated or damaged; export it again.",
    )


@kernel
def _walk_text(data: U8, at: int, lists: Bool, lengths: I64, places: I64) -> tuple[F64, int, int]:
    """The rows of an element with lists: (numbers float64, rows that are whole, place after them).

    lengths and places (K, rows) get how many numbers each property of a row has, and where they begin.
    """
    end = len(data)
    values = np.empty((end - at) // 2 + 2, np.float64)
    count = 0
    for row in range(lengths.shape[1]):
        for k in range(len(lists)):
            wanted = np.int64(1)
            if lists[k]:
                number, at = _next_number(data, at, end)
                if at < 0 or not 0 <= number <= len(values) - count:
                    return values, row, at
                wanted = np.int64(number)
            lengths[k, row], places[k, row] = wanted, count
            for _ in range(wanted):
                number, at = _next_number(data, at, end)
                if at < 0:
                    return values, row, at
                values[count] = number
                count += 1
    return values, lengths.shape[1], at


@kernel
def _next_number(data: U8, at: int, end: int) -> tuple[float, int]:
    """The next number on this line or a later one, and the place after it; -1 where there is none."""
    while at < end and (is_space(data[at]) or data[at] == 10):
        at += 1
    if at >= end:
        return 0.0, -1
    return read_number(data, at, end)


def _columns(body: Body, names: tuple[str, ...], origin: F64 | None = None) -> F32:
    """Some columns side by side, (N, len(names)) float32, counted from an origin if one is given."""
    columns = [np.asarray(body[n]) for n in names]
    out = np.empty((len(columns[0]), len(names)), np.float32)
    places = [c.ctypes.data - columns[0].ctypes.data for c in columns]
    if origin is not None and origin.any():
        out[:] = np.stack(columns, axis=1).astype(np.float64) - origin
    elif all(c.dtype == np.dtype("<f4") for c in columns) and places == [4 * k for k in range(len(names))]:
        _copy_rows(np.lib.stride_tricks.as_strided(columns[0], out.shape, (columns[0].strides[0], 4)), out)
    else:
        with np.errstate(over="ignore"):
            out[:] = np.stack(columns, axis=1)
    return out


@kernel(parallel=True)
def _copy_rows(rows: F32, out: F32) -> None:
    for i in prange(len(out)):
        for k in range(out.shape[1]):
            out[i, k] = rows[i, k]


def _uvs(
    path: pathlib.Path, vertex: Body, face: Body, counts: AnyArray, picks: AnyArray | None, triangles: AnyArray
) -> tuple[CornerValues, ...]:
    layers = [CornerValues(_columns(vertex, names), triangles) for names in UV_NAMES if set(names) <= set(vertex)]
    if "texcoord" in face:
        lengths, values = face["texcoord"]
        if (lengths == 2 * counts).all():
            rows = np.asarray(values, np.float32).reshape(-1, 2)
            corners = rows if picks is None else rows[picks.reshape(-1)]
            layers.insert(0, values_at_corners(corners.reshape(-1, 3, 2)))
    return tuple(layers)


def _colors(vertex: Body, triangles: AnyArray) -> CornerValues | None:
    if not set(COLOR_NAMES[:3]) <= set(vertex):
        return None
    rgba = np.ones((len(vertex["red"]), 4), np.float32)
    for k, name in enumerate(COLOR_NAMES):
        if name in vertex:
            column = np.asarray(vertex[name])
            rgba[:, k] = column / np.iinfo(column.dtype).max if column.dtype.kind in "iu" else column
    return CornerValues(rgba, triangles)
