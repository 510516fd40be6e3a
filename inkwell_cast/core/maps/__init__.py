"""The maps, one module each, all with the same two functions; adding one is a file and a line here.

A map module has `KEY`, `LABEL`, `BACKGROUND` (the value beyond the padding), `derive(cast, low, recipe) ->
(H, W, C) float32` with values from 0 to 1 (no ray is cast), and
`read_back(image, cast, low, recipe) -> (H, W, 3)`: the object-space normals that a receiver gets from the written
picture.
"""

from typing import Protocol

from ..arrays import F32
from ..cast import Cast
from ..low import Low
from ..recipe import Recipe
from . import normal, normal_object


class Map(Protocol):
    KEY: str
    LABEL: str
    BACKGROUND: tuple[float, ...]

    def derive(self, cast: Cast, low: Low, recipe: Recipe) -> F32: ...

    def read_back(self, image: F32, cast: Cast, low: Low, recipe: Recipe) -> F32: ...


REGISTRY: dict[str, Map] = {module.KEY: module for module in (normal, normal_object)}
