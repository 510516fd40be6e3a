"""Records: addresses of arrays and numbers under names, by which kernels read what belongs together.

A kernel that takes many arrays spends more time on handing them on than on its ray, and two that are swapped go
unnoticed. A record is one argument. Its kind says which fields are arrays, and of what; each comes with the field
`NAME_count`, its length. In a kernel `block(record.points, (record.points_count, 3, 3), np.float32)` is the array.
"""

from typing import Any

import numpy as np

from .borrowed_arrays import keeping

Record = Any  # a NumPy record (np.void) of a kind
_ELEMENTS = "elements"


def record_kind(arrays: dict[str, Any], **numbers: Any) -> np.dtype[np.void]:
    """The kind of a record: `arrays` are NumPy types by field, a structured one for an array of rows.

    The kind of another record stands for that record itself. `numbers` are the types of plain fields.
    """
    fields = [(name, np.int64) for array in arrays for name in (array, f"{array}_count")]
    elements = {name: np.dtype(kind) for name, kind in arrays.items()}
    return np.dtype([*fields, *numbers.items()], metadata={_ELEMENTS: elements})


def record_of(kind: np.dtype[np.void], **values: Any) -> Record:
    """A record that keeps the arrays it points to alive.

    Arrays must be C-contiguous and of the kind's types. Raises TypeError for one that is not, and for a field that is
    missing or unknown.
    """
    elements: dict[str, np.dtype[Any]] = kind.metadata[_ELEMENTS]  # type: ignore[index]
    plain = set(kind.names or ()) - {name for array in elements for name in (array, f"{array}_count")}
    if set(values) != plain | set(elements):
        raise TypeError(f"record_of: fields {sorted(set(values) ^ (plain | set(elements)))} are missing or unknown")
    row = np.zeros(1, kind)
    for name, value in values.items():
        if name in plain:
            row[name] = value
            continue
        if value.dtype != elements[name] or not value.flags.c_contiguous:
            raise TypeError(f"record_of: {name} must be a contiguous array of {elements[name]}, not of {value.dtype}")
        row[name], row[f"{name}_count"] = value.__array_interface__["data"][0], len(value) if value.ndim else 1
    return keeping(row, *(values[name] for name in elements))[0]


def aligned(kind: np.dtype[np.void], line: int = 64) -> Record:
    """A record of zeros, of a plain structured kind, that begins on a line of the cache."""
    room = np.zeros(kind.itemsize + line, np.uint8)
    skip = -room.ctypes.data % line
    return keeping(room[skip : skip + kind.itemsize].view(kind), room)[0]


def rows_of(values: Any, kind: np.dtype[np.void]) -> Any:
    """Rows of numbers (N, K) as an array (N,) of a structured kind with K fields float64."""
    return np.ascontiguousarray(values, np.float64).reshape(-1, len(kind.names or ())).view(kind).reshape(-1)


def shared(record: Record) -> Any:
    """A record as an array (1,): a parallel loop cannot take a record, and reads `array[0]` inside of it."""
    return np.asarray(record).reshape(1)
