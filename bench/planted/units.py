"""Units that assets are put together from: a low and what is sculpted for it, healthy or with one planted mistake.

Every mistake is one that artists make, by its description: something is as it should be in the twin of a unit
(`wrong` false), and is not in the unit itself. Forms, sizes, densities and places are drawn.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from inkwell_cast.core.mesh.mesh import Mesh

from .forms import (
    F64,
    Form,
    Rng,
    added,
    bare,
    even,
    sheet_of,
    soft,
    waves,
)

LINE = np.linspace(0, 1, 61)


@dataclass(frozen=True, slots=True)
class Unit:
    """Lows and highs of a pair with its reach outward and inward; `settings` are of the piece."""

    lows: list[Mesh]
    highs: list[Mesh]
    reach: tuple[float, float]
    directions: str | None = None
    settings: dict[str, object] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Mistake:
    """How a unit with a mistake is made, or its twin without; the causes that tell it, and whether settings cure it."""

    name: str
    make: Callable[[Rng, bool], Unit]
    causes: frozenset[str]
    curable: bool
    always: bool = False  # a viewer of the maps' angles alone would not see it
    among_others: bool = False  # it takes other units to be one


def form_of(rng: Rng, *kinds: Callable[[Rng], Form]) -> Form:
    return kinds[rng.integers(len(kinds))](rng)


def detail(rng: Rng, height: float | None = None) -> Callable[[F64], F64]:
    return waves(rng, height or rng.uniform(0.003, 0.008))


def plain(form: Form, high: Mesh, outward: float = 0.04, inward: float = 0.04) -> Unit:
    return Unit([form.low()], [high], (outward, inward))


def piece_of(form: Form, rng: Rng, size: float, off: float, finest: float = 0.15) -> Mesh:
    """A square with relief that floats over a place of a form."""
    patch = form.patches[rng.integers(len(form.patches))]
    half = size / 2
    middle = rng.uniform(0.3, 0.7, 2)

    def part(u: F64, v: F64) -> tuple[F64, F64]:
        return patch(middle[0] + (u - 0.5) * 2 * half, middle[1] + (v - 0.5) * 2 * half)

    relief = added(even(off), waves(rng, 0.1 * finest, finest))
    return soft(bare(sheet_of(part, LINE, LINE, relief)))
