"""The sculpt's shading normal at a hit."""

import numpy as np

from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, view


@kernel(inline="always")
def shading_normal(hit: int, u: float, v: float, sculpt: Record) -> Vector:
    """The sculpt's unit normal at barycentrics u, v of triangle `hit`; `sculpt` is a record of the kind `SCULPT`."""
    values = view(sculpt, "normals")
    rows = view(sculpt, "normal_rows")
    a, b, c = rows[hit, 0], rows[hit, 1], rows[hit, 2]
    w = 1 - u - v
    x = w * values[a, 0] + u * values[b, 0] + v * values[c, 0]
    y = w * values[a, 1] + u * values[b, 1] + v * values[c, 1]
    z = w * values[a, 2] + u * values[b, 2] + v * values[c, 2]
    square = x * x + y * y + z * z
    scale = 1 / np.sqrt(square) if square > 0 else 0.0
    return x * scale, y * scale, z * scale
