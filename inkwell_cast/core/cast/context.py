"""Where maps are made: a sheet of a piece, its rays and what they found."""

from dataclasses import dataclass

from ..base.array_types import Bool
from ..piece.low_on_sheet import Low
from ..piece.piece import Assembly
from ..piece.scene_cache import Warm
from ..piece.sculpt import Sculpt
from ..rays.ray import Rays
from ..settings.recipe import Recipe
from .hits import Cast


@dataclass(frozen=True, slots=True)
class Context:
    """`healed` (H, W) marks texels that were filled in: no ray found what they hold."""

    assembly: Assembly
    sculpt: Sculpt
    low: Low
    rays: Rays
    cast: Cast
    warm: Warm
    healed: Bool | None = None

    @property
    def recipe(self) -> Recipe:
        return self.assembly.recipe
