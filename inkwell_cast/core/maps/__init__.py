"""The maps, one module each, all with the same functions; adding one is a file and a line here.

A map module has `KEY`, `LABEL`, `REASON`, `RAW` (the layer of `gather` that it is made from, "" for the cast alone),
`GROUP` (its settings in the recipe, "" for none), `SPACE` ("linear", or "sRGB" for pictures of colours), `BACKGROUND`
(a value for each channel, beyond the padding) and `derive(ground, raw)`, which casts no ray. A map of normals also has
`read_back(image, ground)`: the object-space normals that a receiver gets from the written picture.
"""

from typing import Protocol, runtime_checkable

from ..arrays import F32, Any_
from ..ground import Ground
from . import (
    bent,
    cavity,
    color,
    curvature,
    displacement,
    floaters,
    height,
    ids,
    normal,
    normal_object,
    occlusion,
    opacity,
    position,
    sheet_occlusion,
    straightening,
    thickness,
)
from .derived import Derived

__all__ = ["REGISTRY", "Derived", "Map", "ReadsNormals"]


class Map(Protocol):
    KEY: str
    LABEL: str
    REASON: str
    RAW: str
    GROUP: str
    SPACE: str
    BACKGROUND: tuple[float, ...]

    def derive(self, ground: Ground, raw: Any_ | None) -> Derived: ...


@runtime_checkable
class ReadsNormals(Protocol):
    def read_back(self, image: F32, ground: Ground) -> F32: ...


REGISTRY: dict[str, Map] = {
    module.KEY: module
    for module in (
        normal, normal_object, bent, occlusion, floaters, sheet_occlusion, curvature, cavity, height,
        displacement, thickness, position, ids, color, opacity, straightening,
    )
}  # type: ignore[misc] # fmt: skip
