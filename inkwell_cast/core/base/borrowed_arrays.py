"""Borrowed memory: arrays that kernels read at an address without owning what lies there, so it must outlive the call.

Whatever holds addresses is made by `keeping`, which ties what lies there to it: who holds the one holds the other too.
"""

from typing import Any

import numpy as np

from .array_types import AnyArray
from .kernels import carray, intrinsic, kernel
from .on_demand import library

types = library("numba.core.types")


class _Kept:
    """An array's memory, and what must live as long as it."""

    def __init__(self, values: Any, owners: tuple[object, ...]) -> None:
        self.values, self.owners, self.__array_interface__ = values, owners, values.__array_interface__


def keeping(values: Any, *owners: object) -> Any:
    """An array (C-contiguous) that, with every view of it, keeps `owners` alive; copies do not."""
    return np.asarray(_Kept(np.ascontiguousarray(values), owners))


@intrinsic
def _pointer(context: Any, address: Any) -> Any:
    def build(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.inttoptr(arguments[0], context.get_value_type(types.voidptr))

    return types.voidptr(address), build


@kernel(inline="always")
def block(address: int, shape: Any, kind: Any) -> AnyArray:
    """The array of a shape and a kind (a NumPy type, or a structured one) that lies at an address."""
    return carray(_pointer(address), shape, kind)
