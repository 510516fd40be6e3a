"""A mend: what cures a flaw, as settings that are laid over the recipe while it is on."""

from typing import Any, Literal

from pydantic import Field

from ..base.setting import SettingsGroup
from .files import Fix
from .pairing import Placing
from .regions import Crease, Heal, Omission, Patch, Pocket, Stroke
from .scope_settings import ScopeSettings


class Mend(SettingsGroup):
    """What cures a flaw: settings that are laid over the recipe while it is on, and can be taken off again."""

    name: str = Field(default="", max_length=120)
    words: str = Field(default="", max_length=300, description="What it does, for the list and the button.")
    cause: str = Field(default="", max_length=40, description="The flaw it was made for.")
    on: bool = True
    pockets: list[Pocket] = Field(default_factory=list)
    nudges: list[Stroke] = Field(default_factory=list)
    omissions: list[Omission] = Field(default_factory=list)
    creases: list[Crease] = Field(default_factory=list)
    patches: list[Patch] = Field(default_factory=list)
    heals: list[Heal] = Field(default_factory=list)
    fixes: dict[str, list[Fix]] = Field(default_factory=dict, description="By file.")
    placed: dict[str, Placing] = Field(default_factory=dict, description="By object.")
    levels: dict[str, ScopeSettings] = Field(default_factory=dict, description="By scope.")
    occluders: Literal["", "pair", "pair x low"] = ""
    together: bool = False
    straighten: bool = False

    @property
    def changes(self) -> str:
        """What it changes, as JSON, whatever it is called and for: the same for mends that do the same."""
        return self.model_dump_json(exclude={"name", "words", "cause", "on"})

    def patches_drawn(self, scale: float) -> list[dict[str, Any]]:
        """Centre, radius in scene units and soft share of every patch that it changes; `scale` is one of the reach."""
        drawn = [{"centre": p.centre, "radius": p.radius * scale, "rim": p.rim} for p in self.pockets]
        drawn += [{"centre": p.centre, "radius": p.radius, "rim": p.rim} for p in self.patches]
        plain: list[Any] = [*self.omissions, *self.creases, *self.heals]
        drawn += [{"centre": p.centre, "radius": p.radius, "rim": 0.0} for p in plain]
        dabs = [(stroke, point) for stroke in self.nudges for point in stroke.points]
        return drawn + [{"centre": at, "radius": stroke.radius, "rim": stroke.falloff} for stroke, at in dabs]

    @property
    def of_a_place(self) -> bool:
        """Whether it changes a place alone, and no whole part."""
        whole = self.fixes or self.placed or self.levels or self.occluders or self.together or self.straighten
        return not whole
