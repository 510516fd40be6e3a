"""How tangent-space normals are stored."""

from typing import Annotated, Literal

from ..base.setting import SettingsGroup, setting


class Basis(SettingsGroup):
    """How tangent-space normals are stored. All of it can be changed after a bake without new rays."""

    green: Annotated[
        Literal["up", "down"],
        setting(
            "Green",
            "Which way a bright green leans: up the sheet (OpenGL), or down (DirectX). It must match the receiving "
            "shader.",
        ),
    ] = "up"
    tangents: Annotated[
        Literal["mikktspace", "file"],
        setting(
            "Tangents", "MikkTSpace on the triangles as baked, which most receivers make too; or those of the file."
        ),
    ] = "mikktspace"
    bitangent: Annotated[
        Literal["texel", "vertex"],
        setting("Bitangent", "Made at each texel from the interpolated normal and tangent, or at the low's vertices."),
    ] = "texel"
    lengths: Annotated[
        Literal["interpolated", "unit"],
        setting("Lengths", "Normal, tangent and bitangent as interpolated, or each made 1 long at the texel."),
    ] = "interpolated"
    hand: Annotated[
        Literal["right", "left"],
        setting("Hand", "Whether the bitangent is N × T, or its opposite in a left-handed basis."),
    ] = "right"
    dither: Annotated[
        bool, setting("Dither", "Spreads the rounding of 8-bit normals alone, so that gentle slopes show no steps.")
    ] = False
