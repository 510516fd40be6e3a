"""A look at a map while it is being made: small, and seldom enough to cost little."""

import time
from collections.abc import Callable

from . import maps
from .arrays import U8, U16, Any_
from .ground import Ground
from .images import png
from .recipe import Recipe
from .work import Look, SheetWork

Peek = Callable[[str, str, U8 | U16], None]

SIDE = 512
EVERY, COST = 0.4, 15.0  # seconds between two looks, and at least so many times what the last one took


def peeking(recipe: Recipe, peek: Peek | None) -> Look:
    """What `work.fill` calls: gives `peek` the first map that is made of the layer at work."""
    next_at = time.monotonic() + EVERY

    def look(sheet: SheetWork, ground: Ground, layer: str, values: Any_ | None) -> None:
        nonlocal next_at
        started = time.monotonic()
        if peek is None or started < next_at:
            return
        raw = "" if layer == "rays" else layer
        key = next((key for key in recipe.output.maps if raw == maps.REGISTRY[key].RAW), None)
        if key is not None:
            image = maps.REGISTRY[key].derive(ground, values).image
            step = -(-max(image.shape[:2]) // SIDE)
            peek(key, sheet.name, png.quantise(image[::step, ::step].copy(), 8))
        next_at = time.monotonic() + max(EVERY, COST * (time.monotonic() - started))

    return look
