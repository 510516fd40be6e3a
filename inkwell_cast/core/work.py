"""A piece on its sheets, with what its rays found so far: cast once, and kept until something changes that rays heed.

What is kept survives a change of basis, ranges, colours, padding and depth; a layer that a new map needs is gathered
from the hits of the first cast. Sheets with more samples than `cast.MOST_SAMPLES` are worked through in bands, and
their rays are traced again for such a layer.
"""

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

from . import maps
from .arrays import I32, Any_
from .assembly import Assembly, BakeMeshes, Sculpt, Warm
from .basis import tangents_for
from .cage import Cage, rays_of
from .cast import Cast, Hits, bands_of, cast_rays, empty_cast, empty_hits
from .fit import cage_of
from .gather import RAWS, empty
from .ground import Ground
from .low import Low, prepare_lows
from .mesh import Mesh
from .rays import Rays
from .recipe import PROOF_SIDE, RAYLESS, Recipe
from .sheet import nearest_covered
from .sheets import lay_out_sheets
from .turns import Turns, by_pair, turns_of

Progress = Callable[[float], None]
Tell = Callable[[str, float], None]
Look = Callable[["SheetWork", Ground, str, Any_ | None], None]
Cancel = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class Layer:
    """A raw layer (H, W, C), and the settings that it was gathered with."""

    settings: object
    values: Any_


@dataclass(slots=True)
class SheetWork:
    """A sheet, its rays, and what they found: a cast, its hits where they can be kept, layers by key."""

    name: str
    low: Low
    rays: Rays
    cast: Cast | None = None
    hits: Hits | None = None
    raws: dict[str, Layer] = field(default_factory=dict)
    padded: tuple[int, I32] | None = None

    def ground(self, assembly: Assembly, sculpt: Sculpt, warm: Warm, cast: Cast | None = None) -> Ground:
        found, low, basis = cast or self.cast, self.low, assembly.recipe.basis
        assert found is not None
        if basis.tangents != "mikktspace":
            own = tangents_for(low.mesh, assembly.recipe.sheet.channel, basis)
            low = replace(low, tangents=own[low.triangles])
        return Ground(assembly, sculpt, low, self.rays, found, warm)

    def padding(self, recipe: Recipe) -> I32 | None:
        """For every texel the one that its padding copies; None for no padding."""
        assert self.cast is not None
        texels = recipe.sheet.padding_texels(self.low.grid.width, self.low.grid.height)
        if not texels:
            return None
        if self.padded is None or self.padded[0] != texels:
            self.padded = texels, nearest_covered(self.cast.covered, texels)
        return self.padded[1]


@dataclass(slots=True)
class LaidOut:
    """A piece on its sheets; `outside` counts triangles on none.

    `spent` are seconds of the last `fill` by layer, `spent_on` by pair.
    """

    sheets: list[SheetWork]
    cage: Cage
    outside: int
    meshes: list[Mesh]  # held, so that the key's identities stay theirs
    spent: dict[str, float] = field(default_factory=dict)
    spent_on: dict[int, float] = field(default_factory=dict)


def laid_out(
    assembly: Assembly, meshes: BakeMeshes, warm: Warm, tell: Progress = lambda share: None
) -> LaidOut:  # fmt: skip
    """The piece on its sheets, as it was left by the last bake if nothing changed since that rays heed."""
    recipe, held = assembly.recipe, [mesh for _, mesh, _ in meshes.distinct()]
    given = recipe.model_dump(mode="json", exclude=RAYLESS)
    given["sheet"].pop("padding")
    key = f"{given} {[id(mesh) for mesh in held]} {warm.sculpt(assembly).serial} {assembly.relief is not None}"
    small = max(recipe.sheet.width, recipe.sheet.height) <= PROOF_SIDE  # a proof does not drive out a full bake
    return warm.once(f"laid out {small}", key, lambda: _lay_out(assembly, held, warm, tell))


def _lay_out(assembly: Assembly, held: list[Mesh], warm: Warm, tell: Progress) -> LaidOut:
    recipe, layout = assembly.recipe, lay_out_sheets(assembly.recipe, assembly.low)
    lows = prepare_lows(assembly.low, layout.sheets, recipe.sheet.channel, recipe.sheet.samples)
    cage = cage_of(assembly, warm, tell)
    sheets = [
        SheetWork(plan.name, low, rays_of(assembly, cage, low.triangles))
        for plan, low in zip(layout.sheets, lows, strict=True)
    ]
    return LaidOut(sheets, cage, layout.outside, held)


def fill(
    laid: LaidOut, assembly: Assembly, sculpt: Sculpt, warm: Warm, tell: Tell, cancelled: Cancel,
    on_disk: bool = False, look: Look = lambda sheet, ground, layer, values: None,
) -> None:  # fmt: skip
    """Cast and gather what the recipe's maps need and what is not there yet; `on_disk` says where it is to lie.

    `tell(layer, share)` hears what is at work, "rays" for the cast, with the pair whose turn it is where there are
    several ("rays · lid"), and how much of all is done. `look` is called now and then with a sheet, its ground, the
    layer at work and as much of its values as is there. Raises Cancelled.
    """
    recipe, laid.spent, laid.spent_on = assembly.recipe, {}, {}
    wanted = dict.fromkeys(maps.REGISTRY[key].RAW for key in recipe.output.maps)
    wanted.pop("", None)
    area = sum(sheet.low.grid.width * sheet.low.grid.height for sheet in laid.sheets)
    done = 0.0
    for sheet in laid.sheets:
        lacking = [key for key in wanted if not _there(sheet, key, recipe)]
        part, before = sheet.low.grid.width * sheet.low.grid.height / area, done
        if sheet.cast is None or lacking:
            _fill_sheet(
                sheet, lacking, assembly, sculpt, warm,
                lambda layer, share, b=before, p=part: tell(layer, b + p * share),  # type: ignore[misc]
                cancelled, laid, on_disk, look,
            )  # fmt: skip
        done += part


def _there(sheet: SheetWork, key: str, recipe: Recipe) -> bool:
    known = sheet.raws.get(key)
    return known is not None and known.settings == RAWS[key].depends(recipe)


def _fill_sheet(
    sheet: SheetWork, lacking: list[str], assembly: Assembly, sculpt: Sculpt, warm: Warm, tell: Tell,
    cancelled: Cancel, laid: LaidOut, on_disk: bool, look: Look,
) -> None:  # fmt: skip
    recipe, cast = assembly.recipe, sheet.cast or empty_cast(sheet.low.grid, on_disk)
    ground = sheet.ground(assembly, sculpt, warm, cast)
    outs = {key: empty(RAWS[key], cast, on_disk) for key in lacking}
    ready: dict[str, Any] = {}
    grid, pairs, spent = sheet.low.grid, assembly.paired.pairs, laid.spent
    bands = [turns_of(grid, sheet.rays.pair, tiles) for tiles in bands_of(grid, by_pair(grid, sheet.rays.pair))]
    costs = {"rays": 0.0 if sheet.hits else 1.0} | {key: RAWS[key].cost(recipe) for key in lacking}
    whole, done = max(sum(costs.values()), 1e-9) * len(bands), 0.0

    def step(name: str, turns: Turns, work: Callable[[Progress], None]) -> None:
        nonlocal done
        started, before = time.perf_counter(), done
        last, at = started, 0.0

        def heard(share: float) -> None:
            nonlocal last, at
            now, pair = time.perf_counter(), turns.at(share)
            turns.spread(at, share, now - last, laid.spent_on)
            last, at = now, share
            words = f"{name} · {pairs[pair].name}" if len(pairs) > 1 and pair >= 0 else name
            tell(words, (before + share * costs[name]) / whole)
            look(sheet, ground, name, outs.get(name))

        work(heard)
        heard(1.0)
        done += costs[name]
        spent[name] = round(spent.get(name, 0.0) + time.perf_counter() - started, 4)

    for turns in bands:
        hits = sheet.hits
        if hits is None:
            made = hits = empty_hits(grid, turns.tiles)
            step(
                "rays",
                turns,
                lambda tell, h=made: cast_rays(  # type: ignore[misc]
                    sheet.low, sheet.rays, sculpt, cast, h, tell, cancelled, recipe.sheet.adaptive
                ),
            )  # type: ignore[misc]
        for key in lacking:
            raw = RAWS[key]

            def work(tell: Progress, key: str = key, raw: Any = raw, hits: Hits = hits) -> None:
                if key not in ready:
                    ready[key] = raw.prepare(ground)
                raw.gather(ground, hits, ready[key], outs[key], tell, cancelled)

            step(key, turns, work)
        if len(bands) == 1:
            sheet.hits = hits
    for key in lacking:
        if hasattr(RAWS[key], "finish"):
            started = time.perf_counter()
            RAWS[key].finish(ground, outs[key], lambda share, key=key: tell(key, 1.0), cancelled)  # type: ignore[attr-defined]
            spent[key] = round(spent.get(key, 0.0) + time.perf_counter() - started, 4)
    sheet.cast = cast
    sheet.raws |= {key: Layer(RAWS[key].depends(recipe), out) for key, out in outs.items()}
