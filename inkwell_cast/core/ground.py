"""Where maps are made: a sheet of a piece, its rays and what they found."""

from dataclasses import dataclass

from .arrays import Bool
from .assembly import Assembly, Sculpt, Warm
from .cast import Cast
from .low import Low
from .rays import Rays
from .recipe import Recipe


@dataclass(frozen=True, slots=True)
class Ground:
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
