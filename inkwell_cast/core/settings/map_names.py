"""The maps that can be made, in the order of the list. Each name is a module of `core/maps` and the map's key."""

from typing import TYPE_CHECKING, Literal

MAPS = (
    "normal",
    "normal_object",
    "bent",
    "occlusion",
    "floaters",
    "sheet_occlusion",
    "curvature",
    "cavity",
    "height",
    "displacement",
    "thickness",
    "position",
    "ids",
    "color",
    "opacity",
    "emission",
    "glow",
    "light",
    "directional",
    "rounded",
    "decals",
    "straightening",
)

# those that tell something of a low that is baked from itself
OF_LOWS_ALONE = ("occlusion", "curvature", "thickness", "position", "ids", "rounded")

# those whose values mean something only beside the low's tangents at each texel
IN_TANGENT_BASIS = ("normal", "bent", "rounded")

if TYPE_CHECKING:
    MapKey = str
else:
    MapKey = Literal[MAPS]
