"""A look at a map while it is being made: small, and seldom enough to cost little."""

import time
from collections.abc import Callable

from .. import maps
from ..base.array_types import U8, U16, AnyArray
from ..cast.context import Context
from ..images import png
from ..settings.recipe import Recipe

Peek = Callable[[str, str, U8 | U16], None]

SIDE = 512
EVERY, COST = 0.4, 15.0  # seconds between two looks, and at least so many times what the last one took


class Preview:
    """Gives `peek(key, sheet, image)` the first map of the recipe that is made of the layer at work."""

    def __init__(self, recipe: Recipe, peek: Peek) -> None:
        self._keys, self._peek = recipe.output.maps, peek
        self._next_at = time.monotonic() + EVERY

    def look(self, sheet: str, context: Context, layer: str, values: AnyArray | None) -> None:
        """Called while a layer ("rays" for the cast) is at work, with as much of its values (H, W, C) as is there."""
        started = time.monotonic()
        if started < self._next_at:
            return
        made_of = "" if layer == "rays" else layer
        key = next((key for key in self._keys if made_of == maps.REGISTRY[key].LAYER), None)
        if key is not None:
            image = maps.REGISTRY[key].derive(context, values).image
            step = -(-max(image.shape[:2]) // SIDE)
            self._peek(key, sheet, png.quantise(image[::step, ::step].copy(), 8))
        self._next_at = time.monotonic() + max(EVERY, COST * (time.monotonic() - started))
