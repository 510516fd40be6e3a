"""ID colours: one flat colour for each material, object, connected part, vertex colour, pair or file.

A colour follows from its name alone, so it stays when others are added; only where it would be too close to that of an
earlier name the next of its own series is taken.
"""

import colorsys
import hashlib
import math

import numpy as np

from ..arrays import F32, Any_
from ..gather.ids import prepare
from ..ground import Ground
from ..srgb import to_linear
from .derived import Derived

KEY, LABEL = "ids", "ID colours"
REASON = "One flat colour for each material, object or part of the sculpt, never blended."
RAW, GROUP, SPACE = "ids", "ids", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)
APART, TRIES = 120, 32  # of 255 in red, green and blue, and how far along a name's series


def derive(ground: Ground, raw: Any_ | None) -> Derived:
    """(H, W, 3) float32. Facts: the legend, colours by name, of those that occur."""
    assert raw is not None
    names, library = prepare(ground).names, ground.recipe.library
    colors = colors_of(names, library.id_colors() | ground.recipe.ids.colors)
    table: F32 = np.array([(0, 0, 0), *(rgb_of(colors[name]) for name in names)], np.float32) / np.float32(255)
    found = np.unique(raw)
    legend = {names[n - 1]: colors[names[n - 1]] for n in found.tolist() if n > 0}
    facts = {"legend": legend, "by": ground.recipe.ids.by}
    return Derived(table[raw[..., 0]], facts, lambda: to_linear(table)[raw[..., 0]])


def mask_of(image: Any_, color: str) -> Any_:
    """Where a colour stands in the whole steps of an ID map (H, W, 3): white on black (H, W, 1)."""
    top = np.iinfo(image.dtype).max
    own = np.rint(np.array(rgb_of(color)) / 255 * top).astype(image.dtype)
    found = image[..., 0] == own[0]
    for channel in (1, 2):
        found &= image[..., channel] == own[channel]
    return found[..., None].astype(image.dtype) * np.asarray(top, image.dtype)


def colors_of(names: tuple[str, ...], chosen: dict[str, str]) -> dict[str, str]:
    """A colour "#rrggbb" for every name: as chosen, as a name that is a colour says, or from the series of its name."""
    found = {name: chosen.get(name, name if name.startswith("#") and len(name) == 7 else "") for name in names}
    taken = [rgb_of(color) for color in found.values() if color]
    for name in names:
        if found[name]:
            continue
        options = [_series(name, n) for n in range(TRIES)]
        apart = [min((math.dist(option, other) for other in taken), default=255.0) for option in options]
        best = next((n for n, d in enumerate(apart) if d >= APART), int(np.argmax(apart)))
        taken.append(options[best])
        found[name] = "#{:02x}{:02x}{:02x}".format(*options[best])
    return found


def _series(name: str, n: int) -> tuple[int, int, int]:
    """Colour n of a name's series: hues from the hash of the name, a golden step on each time."""
    digest = hashlib.sha256(name.encode()).digest()
    start = int.from_bytes(digest[:4], "big") / 2**32
    hue = (start + n * 0.6180339887498949) % 1
    saturation, value = (0.85, 0.55, 0.7)[(digest[4] + n) % 3], (0.95, 0.7, 0.5)[(digest[5] + n // 3) % 3]
    red, green, blue = colorsys.hsv_to_rgb(hue, saturation, value)
    return round(red * 255), round(green * 255), round(blue * 255)


def rgb_of(color: str) -> tuple[int, int, int]:
    """A colour "#rrggbb" as steps from 0 to 255."""
    return int(color[1:3], 16), int(color[3:5], 16), int(color[5:7], 16)
