"""What lies at a texel: its triangle of the low, and where in it the texel is."""

from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, view
from ..rays.ray import point_on_low
from ..uv.rasterise import texel_barycentrics


@kernel(inline="always")
def triangle_at(x: int, y: int, cast: Record) -> int:
    """The triangle of the low at a texel, -1 for none; `cast` is a record of the kind `CAST`."""
    return view(cast, "low_triangle")[y, x]


@kernel(inline="always")
def barycentrics_at(x: int, y: int, t: int, low: Record, cast: Record) -> Vector:
    """Barycentrics of a texel in triangle t, at its centre or its nearest covered sample; `low` is a `LOW` record."""
    sample = view(cast, "sample")[y, x]
    return texel_barycentrics(t, x, y, sample, view(low, "grid"))


@kernel(inline="always")
def place_at(x: int, y: int, t: int, low: Record, cast: Record, rays: Record) -> Vector:
    """Where a texel that lies in triangle t is on the low, scene units; `rays` is a record of the kind `RAYS`."""
    b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
    return point_on_low(t, b0, b1, b2, rays)
