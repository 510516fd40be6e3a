"""The samples of a cell, and its rays that wait for each other until sixteen of them can be traced as one packet.

All of it is one record, since handing on many arrays costs more than a ray.
"""

from typing import Any

import numpy as np

from ..base.array_types import F32, I64, U64
from ..base.borrowed_arrays import block
from ..base.kernels import kernel
from ..base.records import Record, aligned, view
from ..rays.embree import hit_along
from ..rays.modifiers.modifiers import HAS_OMISSIONS, IS_NEAREST
from ..rays.packet import ALL_KINDS, COHERENT, ORIGIN, REACH, ROWS, WAY, WIDTH, hit_of, strike
from .hits import MISSED
from .trace import trace

FEW = 3  # rays that are faster one by one
MOST = 256  # samples of a cell

# The packet and what the library is told of it; the samples of a texel in turn (column, row), how many, after how many
# the rest may be left out, and how many texels across the cell is. Of each sample, texel after texel: the triangle of
# the sculpt it struck, MISSED or OFF; how high over the low (scene units), u and v. Of the rays that wait, which are of
# one pair: how many; how far along each the low lies; its sample.
CELL = np.dtype(
    [
        ("numbers", "f4", (ROWS, WIDTH)),
        ("words", "i4", 2 * WIDTH),
        ("order", "i8", (64, 2)),
        ("samples", "i8"),
        ("few", "i8"),
        ("across", "i8"),
        ("struck", "i8", MOST),
        ("height", "f8", MOST),
        ("u", "f8", MOST),
        ("v", "f8", MOST),
        ("count", "i8"),
        ("pair", "i8"),
        ("low_at", "f8", WIDTH),
        ("sample", "i8", WIDTH),
    ]
)


def empty_cell(order: I64, few: int) -> Record:
    """Room for the cells of one thread; order (S, 2) are the samples of a texel in turn, column and row."""
    cell = aligned(CELL)
    cell["order"][: len(order)], cell["samples"], cell["few"] = order, len(order), few
    cell["across"] = 4 if len(order) < 4 else 2 if min(len(order), few) < WIDTH else 1  # enough for a packet
    cell["words"][WIDTH], cell["words"][WIDTH + 1] = COHERENT, ALL_KINDS
    return cell


@kernel(inline="always")
def add(t: int, ray: Any, n: int, cell: Record, rays: Record, sculpt: Record) -> None:
    """Trace a ray of `make_ray` of triangle t of the low, soon: what it strikes is kept as sample n of the cell."""
    if view(rays, "flags")[t] & (IS_NEAREST | HAS_OMISSIONS):
        length, u, v, hit = trace(t, ray, rays, sculpt)
        _keep(n, ray[6] - length, u, v, hit, cell)
        return
    pair = view(rays, "pair")[t]
    if cell.count == WIDTH or (cell.count and cell.pair != pair):
        trace_waiting(cell, sculpt)
    k = cell.count
    numbers = cell.numbers
    for c in range(3):
        numbers[ORIGIN + c, k], numbers[WAY + c, k] = ray[c], ray[3 + c]
    numbers[REACH, k], cell.low_at[k], cell.sample[k] = ray[7], ray[6], n
    cell.count, cell.pair = k + 1, pair


@kernel
def trace_waiting(cell: Record, sculpt: Record) -> None:
    """Trace the rays that wait; `sculpt` is a record of the kind `SCULPT`."""
    count = cell.count
    if not count:
        return
    cell.count = 0
    tracer = view(sculpt, "tracers")[cell.pair]
    first = view(sculpt, "first")[cell.pair]
    rays = cell.numbers, block(cell.numbers.ctypes.data, (ROWS, WIDTH), np.int32), cell.words
    if count > FEW:
        for k in range(WIDTH):
            cell.words[k] = -1 if k < count else 0
        strike(tracer[0], tracer[1], rays)
    for k in range(count):
        length, u, v, hit = hit_of(k, rays) if count > FEW else _alone(k, tracer, cell.numbers)
        whole = first + hit if hit >= 0 else np.int64(MISSED)
        _keep(cell.sample[k], cell.low_at[k] - np.float64(length), u, v, whole, cell)


@kernel(inline="always")
def _alone(k: int, tracer: U64, numbers: F32) -> Any:
    """What ray k of a packet strikes, traced by itself."""
    return hit_along(
        tracer[0],
        tracer[1],
        numbers[ORIGIN, k],
        numbers[ORIGIN + 1, k],
        numbers[ORIGIN + 2, k],
        numbers[WAY, k],
        numbers[WAY + 1, k],
        numbers[WAY + 2, k],
        numbers[REACH, k],
    )


@kernel(inline="always")
def _keep(n: int, height: float, u: float, v: float, hit: int, cell: Record) -> None:
    cell.struck[n], cell.height[n], cell.u[n], cell.v[n] = hit, height, u, v
