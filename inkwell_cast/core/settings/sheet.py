"""The sheet: its size, samples, padding, and which UVs it is laid out by."""

from typing import Annotated, Literal

from pydantic import Field

from ..base.setting import SettingsGroup, setting

LARGEST_SIDE = 16384


class Size(SettingsGroup):
    """Width and height of one sheet of several, in texels."""

    width: int = Field(default=2048, ge=16, le=LARGEST_SIDE)
    height: int = Field(default=2048, ge=16, le=LARGEST_SIDE)


class Sheet(SettingsGroup):
    """The output texture space."""

    width: Annotated[int, setting("Width", "Texels from left to right.", "texels", ge=16, le=LARGEST_SIDE)] = 2048
    height: Annotated[int, setting("Height", "Texels from top to bottom.", "texels", ge=16, le=LARGEST_SIDE)] = 2048
    samples: Annotated[
        Literal[1, 4, 16, 64],
        setting("Samples", "Rays in each texel; more give smoother edges and take longer.", "a texel"),
    ] = 16
    adaptive: Annotated[
        bool,
        setting("Adaptive", "Takes four samples, and all of them only where those differ in object, normal or depth."),
    ] = True
    padding: Annotated[
        Annotated[int, Field(ge=0, le=1024)] | Literal["auto", "fill"],
        setting(
            "Padding",
            "How far colours run past an island's border, so that smaller copies of the map show no seam: a number "
            "of texels, auto (one for every 128 of the width) or fill (everything).",
            "texels",
        ),
    ] = "auto"

    channel: Annotated[int, setting("UV channel", "Which UVs of the low the sheet is laid out by.", ge=0, le=7)] = 0
    split: Annotated[
        Literal["one", "material", "tile"],
        setting(
            "Sheets",
            "One for everything, where UVs beyond the tile wrap around. Or one for each material of the low, or for "
            "each UV tile, numbered from 1001.",
        ),
    ] = "one"

    repeat: Annotated[
        Literal["none", "u", "v", "both"],
        setting(
            "Repeats",
            "For flat tiles and strips. The sculpt goes on beyond their borders, along u, v or both, so that "
            "opposite borders meet.",
        ),
    ] = "none"

    def padding_texels(self, width: int, height: int) -> int:
        """Padding of a sheet as a number; filling everything is the longest way across it."""
        if self.padding == "fill":
            return width + height
        return max(1, width // 128) if self.padding == "auto" else self.padding
