"""What a single pair or object sets otherwise than the piece."""

from pydantic import Field

from ..base.setting import SettingsGroup
from .low_normals import NormalMode
from .regions import Directions


class ScopeSettings(SettingsGroup):
    """Settings of one pair or one object; what is None is inherited. Reach is in the unit of the piece's reach."""

    outward: float | None = Field(default=None, ge=0, le=1e6)
    inward: float | None = Field(default=None, ge=0, le=1e6)
    directions: Directions | None = None
    mode: NormalMode | None = None
    angle: float | None = Field(default=None, ge=0, le=180)

    @property
    def empty(self) -> bool:
        return self == ScopeSettings()
