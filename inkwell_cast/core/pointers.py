"""Addresses as pointers inside kernels: what lies there is read without owning it, so it must outlive the call."""

from typing import Any

from numba import types
from numba.extending import intrinsic
from numba.np.arrayobj import populate_array


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
