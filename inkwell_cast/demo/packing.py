"""Rectangles onto a square sheet, in rows from tall to flat."""

import numpy as np

from ..core.base.array_types import F64


def pack(sizes: F64, gap: float) -> tuple[F64, float]:
    """Lower left corners (N, 2) for rectangles `sizes (N, 2)`, and the side of the smallest square found for them."""
    side = float(np.sqrt((sizes + gap).prod(axis=1).sum()))
    while True:
        corners = _rows(sizes, gap, side)
        if corners is not None:
            return corners, side
        side *= 1.01


def _rows(sizes: F64, gap: float, side: float) -> F64 | None:
    """Fill rows with the tallest that fit; what is flat enough is stacked in the room above shorter ones."""
    corners = np.full(sizes.shape, np.nan)
    waiting = sorted(range(len(sizes)), key=lambda k: (-sizes[k, 1], -sizes[k, 0]))
    top = gap
    while waiting:
        x, tall = gap, sizes[waiting[0], 1]
        if top + tall + gap > side:
            return None
        placed = []
        for k in list(waiting):
            if k in placed or x + sizes[k, 0] + gap > side:
                continue
            corners[k] = x, top
            placed.append(k)
            y, width = top + sizes[k, 1] + gap, sizes[k, 0]
            for other in waiting:
                if other not in placed and sizes[other, 0] <= width and y + sizes[other, 1] <= top + tall:
                    corners[other] = x, y
                    placed.append(other)
                    y += sizes[other, 1] + gap
            x += width + gap
        if not placed:
            return None
        waiting = [k for k in waiting if k not in placed]
        top += tall + gap
    return corners
