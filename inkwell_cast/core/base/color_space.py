"""Light to sRGB and back: IEC 61966-2-1."""

import numpy as np

from .array_types import F32


def to_srgb(linear: F32) -> F32:
    """Linear light, 0 to 1, as it is stored in pictures of colours."""
    bright = np.float32(1.055) * linear ** np.float32(1 / 2.4) - np.float32(0.055)
    return np.asarray(np.where(linear <= 0.0031308, np.float32(12.92) * linear, bright), np.float32)


def to_linear(stored: F32) -> F32:
    """Linear light, 0 to 1, of what pictures of colours store."""
    light = ((stored + np.float32(0.055)) / np.float32(1.055)) ** np.float32(2.4)
    return np.asarray(np.where(stored <= 0.04045, stored / np.float32(12.92), light), np.float32)


def steps_of(color: str) -> tuple[int, int, int]:
    """Red, green and blue of a colour such as "#ffd9a0", 0 to 255."""
    return int(color[1:3], 16), int(color[3:5], 16), int(color[5:7], 16)


def light_of(color: str) -> F32:
    """Its linear light (3,), 0 to 1."""
    return to_linear(np.array(steps_of(color), np.float32) / np.float32(255))
