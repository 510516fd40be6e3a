"""Shows at once whether green is read the right way: a ball that stands out and a groove that goes in."""

import numpy as np

from ..base.array_types import U8

SIDE = 120


def sample(stored: str, read: str) -> U8:
    """(SIDE, SIDE, 3): a normal map with green "up" or "down", shaded by a receiver that takes it as "up" or "down"."""
    y, x = np.mgrid[0:SIDE, 0:SIDE].astype(np.float64)
    u, v = (x + 0.5) / SIDE, 1 - (y + 0.5) / SIDE
    away = np.hypot(u - 0.5, v - 0.62)
    height = np.sqrt(np.maximum(0.27**2 - away**2, 0)) - 0.07 * np.exp(-(((v - 0.17) / 0.045) ** 2))
    along_v, along_u = np.gradient(height, 1 / SIDE)
    normal = np.stack([-along_u, along_v, np.ones_like(height)], axis=-1)  # rows run against v
    normal /= np.linalg.norm(normal, axis=2, keepdims=True)
    if stored != read:
        normal[..., 1] *= -1
    light = np.array([-0.5, 0.65, 0.57])
    bright = np.maximum(normal @ (light / np.linalg.norm(light)), 0)
    shaded = (0.16 + 0.84 * bright)[..., None] * np.array([0.93, 0.88, 0.80])
    return np.rint(255 * np.clip(shaded, 0, 1) ** (1 / 1.6)).astype(np.uint8)
