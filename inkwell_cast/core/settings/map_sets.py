"""Sets of maps that are chosen together, by the word that says what they are for."""

from collections.abc import Sequence

from .map_names import MAPS

PURPOSES: dict[str, tuple[str, ...]] = {  # what each map is for, in the order of the list
    "Surface": ("normal", "normal_object", "rounded", "decals", "color", "emission"),
    "Light": ("occlusion", "floaters", "sheet_occlusion", "bent", "glow", "light", "directional"),
    "Masks": ("ids", "curvature", "cavity", "opacity", "straightening"),
    "Shape": ("height", "displacement", "thickness", "position"),
}
READY: dict[str, tuple[str, ...]] = {
    "shaded": ("normal", "occlusion"),
    "texturing": ("normal", "normal_object", "occlusion", "curvature", "thickness", "position", "ids"),
    "relief": ("normal", "height", "displacement"),
    "lit": ("normal", "occlusion", "glow", "light"),
}


def maps_of(names: Sequence[str]) -> list[str]:
    """The maps that keys and names of ready sets stand for, each once, in the order of the list.

    What is neither stays as it is, at the end, for the recipe to refuse.
    """
    wanted = [key for name in names for key in READY.get(name, (name,))]
    return [key for key in MAPS if key in wanted] + [key for key in wanted if key not in MAPS]
