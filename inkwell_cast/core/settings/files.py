"""How one mesh file is taken: its role, its place, and the fixes made to the piece's copy of it."""

from typing import Annotated, Literal

from pydantic import Field, field_validator

from ..base.setting import SettingsGroup, setting

FixKind = Literal["merge_doubles", "flip_winding", "smooth", "split_at_seams", "into_tile", "leave_out"]


class Fix(SettingsGroup):
    """A harmless correction of one object (all of a file where `part` is empty), made on the piece's copy.

    `near`, scene units, keeps it to the shell of the object that lies nearest to that place; of `smooth`, edges that
    bend by more than `angle`, degrees, stay hard.
    """

    kind: FixKind
    part: str = ""
    near: tuple[float, float, float] | None = None
    angle: float = Field(default=180.0, ge=0, le=180)


Role = Literal["low", "high", "float", "cage", "self"]


class FileSettings(SettingsGroup):
    """How one mesh file is taken: its role, its axes and place, and the fixes made to the piece's copy of it."""

    role: Literal["", "low", "high", "float", "cage", "self"] = ""
    turn: Annotated[
        str,
        setting(
            "Up axis",
            "Turn the file's Z up into Y up (z_to_y), or Y up into Z up (y_to_z), or say what the new axes are made "
            "of, such as +x+z-y; as it is by default.",
            pattern=r"^(none|z_to_y|y_to_z|([+-][xyz]){3})$",
        ),
    ] = "none"
    colors: Annotated[
        Literal["auto", "srgb", "linear"],
        setting(
            "Vertex colours",
            "What their numbers are: display values (sRGB), linear light, or what the format says: glTF and USD have "
            "light, the others display values.",
        ),
    ] = "auto"
    scale: float = Field(default=1.0, gt=0, le=1e36, description="Factor on every position, before the move.")
    move: tuple[float, float, float] = Field(default=(0.0, 0.0, 0.0), description="Scene units.")
    fixes: list[Fix] = Field(default_factory=list)

    @field_validator("turn")
    @classmethod
    def _three_axes(cls, turn: str) -> str:
        if turn[0] in "+-" and len({turn[1], turn[3], turn[5]}) < 3:
            raise ValueError(f"{turn} names an axis twice")
        return turn
