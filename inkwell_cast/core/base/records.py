"""Records: addresses of arrays and numbers under names, by which kernels read what belongs together.

A kernel that takes many arrays spends more time on handing them on than on its ray, and two that are swapped go
unnoticed. A record is one argument. Its kind says which fields are arrays, of what and of which shape; each comes with
the field `NAME_count`, its length. In a kernel `view(record, "points")` is the array.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from .borrowed_arrays import keeping
from .kernels import intrinsic
from .on_demand import library

types = library("numba.core.types")
cgutils = library("numba.core.cgutils")
arrayobj = library("numba.np.arrayobj")
numpy_support = library("numba.np.numpy_support")

Record = Any  # a NumPy record (np.void) of a kind
_ELEMENTS = "elements"


@dataclass(frozen=True, slots=True)
class _Field:
    """What a field of a kind points to: elements of a type, and the shape of all, numbers or fields that hold them."""

    element: np.dtype[Any]
    shape: tuple[int | str, ...]
    is_record: bool


_KINDS: dict[tuple[str, ...], dict[str, _Field]] = {}  # by the names of all fields of a kind


def record_kind(arrays: dict[str, Any], **numbers: Any) -> np.dtype[np.void]:
    """The kind of a record: `arrays` are NumPy types by field, a structured one for an array of rows.

    A tuple, such as `(np.float32, 3, 3)`, gives the shape of each row too, or with fields in front, such as
    `(np.float32, "height", "width")`, that of all. The kind of another record stands for that record itself. `numbers`
    are the types of plain fields. Raises TypeError for a kind whose fields have the names of another one's.
    """
    fields = [(name, np.int64) for array in arrays for name in (array, f"{array}_count")]
    known = {name: _field(name, kind if isinstance(kind, tuple) else (kind,)) for name, kind in arrays.items()}
    names = tuple(name for name, *_ in [*fields, *numbers.items()])
    if _KINDS.setdefault(names, known) != known:
        raise TypeError(f"record_kind: another kind has the fields {', '.join(names)}")
    elements = {name: field.element for name, field in known.items()}
    return np.dtype([*fields, *numbers.items()], metadata={_ELEMENTS: elements})


def _field(name: str, given: tuple[Any, ...]) -> _Field:
    kind, *tail = given
    element = np.dtype(kind)
    is_record = bool(element.metadata) and _ELEMENTS in (element.metadata or {})
    shape = (*tail,) if tail and isinstance(tail[0], str) else (f"{name}_count", *tail)
    return _Field(element, shape, is_record)


@intrinsic
def view(context: Any, record: Any, name: Any) -> Any:
    """The array that a field of a record points to, or the record, where its kind says so; `name` is its literal."""
    field = _KINDS[tuple(record.fields)][name.literal_value]
    element = numpy_support.from_dtype(field.element)
    address = name.literal_value

    def number(cx: Any, builder: Any, value: Any, which: str) -> Any:
        place = cgutils.get_record_member(builder, value, record.offset(which), cx.get_data_type(types.int64))
        return cx.unpack_value(builder, types.int64, place, None if record.aligned else 1)

    def record_there(cx: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.inttoptr(number(cx, builder, arguments[0], address), cx.get_value_type(element))

    def array_there(cx: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        whole = cx.get_value_type(types.intp)
        shape = [
            number(cx, builder, arguments[0], side) if isinstance(side, str) else whole(side) for side in field.shape
        ]
        strides = [whole(field.element.itemsize)]
        for side in reversed(shape[1:]):
            strides.insert(0, builder.mul(strides[0], side))
        made = arrayobj.make_array(signature.return_type)(cx, builder)
        pointer = cx.get_data_type(element).as_pointer()
        arrayobj.populate_array(
            made,
            data=builder.inttoptr(number(cx, builder, arguments[0], address), pointer),
            shape=cgutils.pack_array(builder, shape),
            strides=cgutils.pack_array(builder, strides),
            itemsize=whole(field.element.itemsize),
            meminfo=None,
        )
        return made._getvalue()

    if field.is_record:
        return element(record, name), record_there
    return types.Array(element, len(field.shape), "C")(record, name), array_there


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
