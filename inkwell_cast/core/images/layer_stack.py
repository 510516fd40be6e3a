"""Pictures of one size laid over each other in folders, as layered files hold them."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..base.array_types import U8

BAND = 256  # rows blended at once


@dataclass(frozen=True, slots=True)
class PictureLayer:
    """One picture of a stack: `make()` gives it, (H, W, 3 or 4) uint8, RGB or RGBA; so only one need be held."""

    name: str
    make: Callable[[], U8]


@dataclass(frozen=True, slots=True)
class Stack:
    """A folder of layers, the topmost first."""

    name: str
    layers: list[PictureLayer]


def merged(content: list[Stack | PictureLayer]) -> U8:
    """What is seen of stacks and layers, the topmost first, one over the other: (H, W, 4)."""
    flat = [layer for entry in content for layer in ([entry] if isinstance(entry, PictureLayer) else entry.layers)]
    out: U8 | None = None
    for layer in reversed(flat):
        picture = layer.make()
        if out is None:
            out = np.zeros((*picture.shape[:2], 4), np.uint8)
        for first in range(0, len(out), BAND):
            _lay_over(out[first : first + BAND], picture[first : first + BAND])
    assert out is not None
    return out


def _lay_over(under: U8, over: U8) -> None:
    a, b = under.astype(np.float32) / 255, over.astype(np.float32) / 255
    share = b[..., 3:] if b.shape[2] == 4 else np.ones((*b.shape[:2], 1), np.float32)
    alpha = share + a[..., 3:] * (1 - share)
    mixed = b[..., :3] * share + a[..., :3] * a[..., 3:] * (1 - share)
    under[..., :3] = np.rint(255 * mixed / np.maximum(alpha, 1e-6))
    under[..., 3:] = np.rint(255 * alpha)
