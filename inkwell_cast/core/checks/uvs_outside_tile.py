"""UVs outside the tile."""

from collections.abc import Iterator

import numpy as np

from ..uv.layout import COLUMNS
from .finding import Finding, Inspected, Remedy, plural

KEY = "tiles"
TITLE = "UVs outside the tile"
TOLERANCE = 1e-3


def find(piece: Inspected) -> Iterator[Finding]:
    by_tile = piece.assembly.recipe.sheet.split == "tile"
    columns = COLUMNS if by_tile else 1
    rows = 1 << 20 if by_tile else 1
    for low in piece.lows:
        if low.uvs is None:
            continue
        outside = np.asarray((low.uvs < -TOLERANCE).any(axis=(1, 2)))
        outside |= (low.uvs[..., 0] > columns + TOLERANCE).any(axis=1)
        outside |= (low.uvs[..., 1] > rows + TOLERANCE).any(axis=1)
        outside &= low.judged  # a copy was moved aside on purpose, and is told as one
        if not outside.any():
            continue
        count = int(outside.sum())
        span = np.ceil(low.uvs.max(axis=1) - TOLERANCE) - np.floor(low.uvs.min(axis=1) + TOLERANCE)
        whole = not (span[outside] > 1).any()
        if by_tile:
            happens = "no tile is numbered there, so they are not baked"
        else:
            happens = "they wrap around into it, as a texture repeats"
        yield Finding(
            KEY,
            "warning" if by_tile else "note",
            TITLE,
            low.part.key,
            count,
            f"{plural(count, 'triangle')} of {low.part.name} outside the tile: {happens}.",
            "Move the islands by whole tiles, or choose sheets by tile." if whole else "Leave it for repeating strips.",
            Remedy("Move islands into the tile", "into_tile", low.part.file, low.part.name) if whole else None,
            marks=low.marks(outside),
        )
