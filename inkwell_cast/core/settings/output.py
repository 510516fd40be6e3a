"""Which maps are written, in which format and depth."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..base.setting import SettingsGroup, setting
from .map_names import MapKey

DEPTHS = {"png": (8, 16), "tga": (8,), "tiff": (8, 16, 32), "exr": (16, 32), "jpeg": (8,)}


class Form(SettingsGroup):
    """Format and depth of a picture file."""

    depth: Annotated[
        Literal[8, 16, 32],
        setting(
            "Depth",
            "16 bits keep gentle slopes free of steps; 8 make smaller files. OpenEXR and 32-bit TIFF hold scene units.",
            "bits",
        ),
    ] = 8
    format: Annotated[
        Literal["png", "tga", "tiff", "exr", "jpeg"],
        setting("Format", "PNG has 8 or 16 bits, TGA and JPEG 8. TIFF has 8, 16 or 32, OpenEXR half or float."),
    ] = "png"

    @model_validator(mode="after")
    def _that_there_is(self) -> Self:
        if self.depth not in DEPTHS[self.format]:
            raise ValueError(
                f"{self.format.upper()} has no {self.depth} bits; choose {' or '.join(map(str, DEPTHS[self.format]))}"
            )
        return self

    @property
    def exact(self) -> bool:
        """Whether files hold values as they are, in scene units, not from 0 to 1."""
        return self.format == "exr" or self.depth == 32

    @property
    def steps(self) -> Literal[8, 16]:
        """Bits of the picture that the views show."""
        return 8 if self.depth == 8 else 16

    @property
    def words(self) -> str:
        """The depth as names of files say it: 8, 16, 16f or 32f."""
        return f"{self.depth}f" if self.exact else str(self.depth)


class Output(Form):
    """What is written: format and depth of all maps, where none of their own are set."""

    maps: Annotated[
        list[MapKey],
        setting("Maps", "All maps of one bake come from the same rays and line up to the texel.", min_length=1),
    ] = ["normal"]  # noqa: RUF012 (pydantic copies it)
    dither: Annotated[
        bool,
        setting(
            "Dither",
            "Spreads the rounding of every 8-bit map that has gradients, so that they show no steps. Never of IDs.",
        ),
    ] = False
    own: Annotated[
        dict[MapKey, Form],
        setting("Own forms", "Format and depth of single maps, by map; the others have those of all."),
    ] = Field(default_factory=dict)

    def form_of(self, key: str) -> Form:
        """Format and depth of a map, or of what lies beside it ("mask:NAME"): its own, else those of all."""
        name = "ids" if key.startswith("mask:") else key
        return next((form for map_name, form in self.own.items() if map_name == name), self)
