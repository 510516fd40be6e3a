"""What a scene unit is: meshes do not say it, so the artist may."""

from typing import Annotated

from ..base.setting import SettingsGroup, setting
from .typed_numbers import World as WorldUnit


class World(SettingsGroup):
    """How long one scene unit is."""

    unit: Annotated[
        WorldUnit, setting("One scene unit is a", "So lengths can be typed as they are: “2 mm” or “0.1 in”.")
    ] = "cm"
