"""Where the low's own normals come from."""

from typing import Annotated, Literal

from ..base.setting import SettingsGroup, setting

NormalMode = Literal["keep", "smooth", "angle", "seams", "weighted"]


class Normals(SettingsGroup):
    """Where the low's own normals come from."""

    mode: Annotated[
        NormalMode,
        setting(
            "Normals of the low",
            "Keep those of the file; or compute them anew: smooth everywhere, split where faces meet at more than the "
            "angle, split at UV seams, or weighted by face area so that large faces stay flat (split by the angle).",
        ),
    ] = "keep"
    angle: Annotated[
        float, setting("Angle", "Edges between faces that lean apart by more than this are hard.", "°", ge=0, le=180)
    ] = 30.0
