"""The maps, one module each, all with the same names; adding one is a file here and its name in `settings.map_names`.

A map module has `KEY`, `LABEL`, `REASON`, `GROUP` (its settings in the recipe, "" for none), `SPACE` ("linear", or
"sRGB" for pictures of colours), `BACKGROUND` (a value for each channel, beyond the padding), `LAYER` (the name of the
layer that it is made from, "" for the cast alone) and `derive(context, layer)`, which casts no ray. A map of normals
also has `read_back(image, context)`: the object-space normals that a receiver gets from the written picture.

The module that gathers a layer has the functions of `layer.Layer` too, or an object with them, `GATHERS`.
"""

import importlib
from typing import Any, Protocol, runtime_checkable

from ..base.array_types import F32, AnyArray
from ..cast.context import Context
from ..settings.map_names import MAPS
from .layer import Layer
from .value_range import Derived

__all__ = ["FLAT", "LAYERS", "REGISTRY", "Derived", "Map", "ReadsNormals"]


FLAT = ("ids",)  # keys of maps without gradients


class Map(Protocol):
    KEY: str
    LABEL: str
    REASON: str
    LAYER: str
    GROUP: str
    SPACE: str
    BACKGROUND: tuple[float, ...]

    def derive(self, context: Context, layer: AnyArray | None) -> Derived: ...


@runtime_checkable
class ReadsNormals(Protocol):
    def read_back(self, image: F32, context: Context) -> F32: ...


_modules: list[Any] = [importlib.import_module(f".{name}", __name__) for name in MAPS]
REGISTRY: dict[str, Map] = {module.KEY: module for module in _modules}
LAYERS: dict[str, Layer] = {
    module.LAYER: getattr(module, "GATHERS", module)
    for module in _modules
    if hasattr(module, "GATHERS") or hasattr(module, "gather")
}
