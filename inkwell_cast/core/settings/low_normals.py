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
            "Keep those of the file, or compute them anew. Smooth everywhere, or split: where faces meet at more than "
            "the angle, or at UV seams. Weighted by face area, split by the angle, large faces stay flat.",
        ),
    ] = "keep"
    angle: Annotated[
        float, setting("Angle", "Edges between faces that lean apart by more than this are hard.", "°", ge=0, le=180)
    ] = 30.0
