"""Addresses as pointers inside kernels: what lies there is read without owning it, so it must outlive the call.

An array that holds addresses is made by `keeping`, which ties what lies there to the array: whoever holds the array
holds that too.
"""

from typing import Any

import numpy as np
from numba import types
from numba.extending import intrinsic
from numba.np.arrayobj import populate_array


class _Kept:
    """An array's memory, and what must live as long as it."""

    def __init__(self, values: Any, owners: tuple[object, ...]) -> None:
        self.values, self.owners, self.__array_interface__ = values, owners, values.__array_interface__


def keeping(values: Any, *owners: object) -> Any:
    """The same array (C-contiguous); it and every view of it keep `owners` alive, copies do not."""
    return np.asarray(_Kept(np.ascontiguousarray(values), owners))


def _pointer_to(kind: Any, address: Any) -> Any:
    result = types.CPointer(kind)

    def build(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.inttoptr(arguments[0], context.get_value_type(result))

    return result(address), build


@intrinsic  # type: ignore[untyped-decorator]
def as_int32(context, address):  # type: ignore[no-untyped-def]
    return _pointer_to(types.int32, address)


@intrinsic  # type: ignore[untyped-decorator]
def as_int64(context, address):  # type: ignore[no-untyped-def]
    return _pointer_to(types.int64, address)


@intrinsic  # type: ignore[untyped-decorator]
def as_float32(context, address):  # type: ignore[no-untyped-def]
    return _pointer_to(types.float32, address)


@intrinsic  # type: ignore[untyped-decorator]
def as_float64(context, address):  # type: ignore[no-untyped-def]
    return _pointer_to(types.float64, address)


@intrinsic  # type: ignore[untyped-decorator]
def unowned(context, array):  # type: ignore[no-untyped-def]
    """The same array without a count of references, which in an inner loop costs more than the work."""

    def build(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        view = context.make_array(array)
        source, made = view(context, builder, arguments[0]), view(context, builder)
        populate_array(made, source.data, source.shape, source.strides, source.itemsize, None)
        return made._getvalue()

    return array(array), build
