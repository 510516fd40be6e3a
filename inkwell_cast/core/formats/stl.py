"""STL, binary and ASCII: triangles alone.

Corners that are equal bit for bit become one vertex. The normals of the file repeat what the faces say and are left
out, so the mesh is shaded smooth; parts of an ASCII file keep their `solid` names.
"""

import pathlib
import re

import numpy as np

from ..base.array_types import F32, I32, U8
from ..base.errors import InputProblem
from ..mesh.mesh import Mesh
from ..mesh.normals import weld
from .numbers_in_text import decoded, read_all
from .reading_budget import Budget

SUFFIXES = (".stl",)
_ROW = np.dtype([("normal", "<f4", (3,)), ("corners", "<f4", (3, 3)), ("spare", "<u2")])


def read(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read one file as one mesh. Raises InputProblem where its length does not fit."""
    data = np.memmap(path, np.uint8, "r") if path.stat().st_size else np.zeros(0, np.uint8)
    count = int(data[80:84].view("<u4")[0]) if len(data) >= 84 else -1
    if count >= 0 and len(data) == 84 + count * _ROW.itemsize:
        budget.take(3 * count // 2, count)
        corners = np.frombuffer(data, _ROW, count, 84)["corners"].reshape(-1, 3)
        return _mesh(path, budget.nearer(corners).astype(np.float32), np.zeros(count, np.int32), ("",))
    if data[:5].tobytes().lower() == b"solid":
        return _ascii(path, np.array(data), budget)
    if count < 0:
        raise InputProblem(path.name, f"It ends too early ({len(data):,} bytes).", "Copy or export it again.")
    raise InputProblem(
        path.name,
        f"It says it holds {count:,} triangles ({84 + count * 50:,} bytes) but has {len(data):,} bytes.",
        "The file is truncated or no STL; export it again.",
    )


def _ascii(path: pathlib.Path, data: U8, budget: Budget) -> Mesh:
    text = data.tobytes()
    solids = [*re.finditer(rb"^[ \t]*solid[ \t]*([^\r\n]*)", text, re.MULTILINE | re.IGNORECASE)]
    ends = [*[m.start() for m in solids[1:]], len(text)]
    pieces, objects = [], []
    for n, (start, end) in enumerate(zip([m.end() for m in solids], ends, strict=True)):
        numbers = re.findall(rb"^[ \t]*vertex[ \t]+([^\r\n]+)", text[start:end], re.MULTILINE | re.IGNORECASE)
        budget.take(len(numbers) // 2, len(numbers) // 3)
        values, count, _ = read_all(np.frombuffer(b"\n".join(numbers) + b"\n", np.uint8), 0, 3 * len(numbers))
        if count != 3 * len(numbers) or len(numbers) % 3:
            raise InputProblem(
                path.name, "A facet lacks a corner or a number.", "The file is damaged; export it again."
            )
        pieces.append(budget.nearer(values.reshape(-1, 3)).astype(np.float32))
        objects.append(np.full(len(numbers) // 3, n, np.int32))
    names = tuple(decoded(m.group(1)).strip() for m in solids)
    return _mesh(path, np.concatenate(pieces), np.concatenate(objects), names)


def _mesh(path: pathlib.Path, corners: F32, objects: I32, names: tuple[str, ...]) -> Mesh:
    if not len(corners):
        raise InputProblem(path.name, "It holds no triangles.", "Export the mesh with its faces.")
    first = weld(corners)
    leading = first == np.arange(len(first))
    place = np.cumsum(leading, dtype=np.int32) - 1
    return Mesh(
        path.name, corners[leading], place[first].reshape(-1, 3).astype(np.int32), objects=objects, object_names=names
    )
