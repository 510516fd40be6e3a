"""Assets of one to three units, drawn by seed: which are healthy, which hold mistakes, and the recipe of the whole."""

from dataclasses import dataclass, replace

import numpy as np

from inkwell_cast.core.mesh.mesh import Mesh, merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.pairing import Pairing, Placing
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.scope_settings import ScopeSettings
from inkwell_cast.core.settings.scopes import pair_scope
from inkwell_cast.core.settings.sheet import Sheet

from .forms import Rng, any_turn, laid, named, placed
from .healthy import HEALTHY
from .mistakes import MISTAKES
from .units import Mistake, Unit

LOW, HIGH = "game.ply", "sculpt.ply"
SIDE = 192  # texels for each unit along a side
APART = 3.0
HEALTHY_SHARE, ONE_SHARE = 0.2, 0.67  # of the assets: without a mistake, and with one


@dataclass(frozen=True, slots=True)
class Asset:
    """Meshes and recipe; `kinds` names its units, `mistakes` those units that hold one, by number."""

    seed: int
    meshes: BakeMeshes
    recipe: Recipe
    kinds: list[str]
    mistakes: dict[int, Mistake]


def unit_of(key: str) -> int:
    """The number of the unit that a part belongs to, as named here."""
    return int(key.rpartition("/")[2][1])


def asset(seed: int, wrong: bool = True) -> Asset:
    """The asset of a seed, or its twin whose mistakes are taken away."""
    rng = np.random.default_rng(seed)
    chance = rng.random()
    planted = 0 if chance < HEALTHY_SHARE else 1 if chance < HEALTHY_SHARE + ONE_SHARE else int(rng.integers(2, 4))
    count = max(planted, int(rng.integers(1, 4)), 2 if MISTAKES[seed % len(MISTAKES)].among_others else 1)
    first = seed % len(MISTAKES)  # every mistake as often
    chosen = {n: MISTAKES[(first + 5 * n) % len(MISTAKES)] for n in range(planted)}
    units, kinds = [], []
    for n in range(count):
        own = np.random.default_rng([seed, n])  # a unit and its twin draw the same
        if n in chosen:
            units.append(chosen[n].make(own, wrong))
            kinds.append(chosen[n].name)
        else:
            make = HEALTHY[own.integers(len(HEALTHY))] if planted else HEALTHY[(seed + n) % len(HEALTHY)]
            units.append(make(own))
            kinds.append(make.__name__.replace("_", " "))
    return together(seed, units, kinds, chosen, rng)


def together(seed: int, units: list[Unit], kinds: list[str], chosen: dict[int, Mistake], rng: Rng) -> Asset:
    """Units beside each other, each turned and sized as it comes, on cells of one sheet."""
    lows, highs, levels, pairs = list[Mesh](), list[Mesh](), dict[str, ScopeSettings](), dict[str, Placing]()
    cells = int(np.ceil(np.sqrt(len(units))))
    settings: dict[str, object] = {}
    for n, unit in enumerate(units):
        turn, size, at = any_turn(rng), rng.uniform(0.5, 1.5), np.array([APART * n, 0.0, 0.0])
        settings |= unit.settings
        outward, inward = (size * length for length in unit.reach)
        own_pairs = unit.settings.get("shaded", False)
        for parts, role, meshes in ((unit.lows, "low", lows), (unit.highs, "high", highs)):
            for k, mesh in enumerate(parts):
                spelt = "m" if role == "high" and unit.settings.get("misspelt") else ""
                name = f"u{n}{'abc'[k]}{spelt}_{role}"
                if role == "low":
                    mesh = laid(mesh, 1 / cells, (n % cells / cells, n // cells / cells))
                meshes.append(named(placed(mesh, turn, size, at), name))
                pair = f"u{n}{'abc'[k]}" if own_pairs else f"u{n}"
                levels[pair_scope(pair)] = ScopeSettings(outward=outward, inward=inward, directions=unit.directions)
                if not unit.settings.get("misspelt"):
                    pairs[f"{LOW if role == 'low' else HIGH}/{name}"] = Placing(pair=pair)
                else:
                    levels[pair_scope(f"u{n}a")] = levels[pair_scope(pair)]
    shaded = "shaded" in settings
    recipe = Recipe(
        reach=Reach(unit="scene", outward=0.05, inward=0.05, straighten=bool(settings.get("straighten"))),
        sheet=Sheet(width=SIDE * cells, height=SIDE * cells, samples=4),
        output=Output(maps=["normal", "occlusion"] if shaded else ["normal"], depth=16),
        occlusion=Occlusion(rays=16, occluders="piece" if settings.get("shaded") else "pair"),
        pairing=Pairing(placed=pairs),
        levels=levels,
    )
    low, high = replace(merge(lows, LOW), name=LOW), replace(merge(highs, HIGH), name=HIGH)
    return Asset(seed, BakeMeshes([], [], [low, high]), recipe, kinds, chosen)
