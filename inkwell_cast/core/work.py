"""A piece on its sheets, with what its rays found so far: cast once, and kept until something changes that rays heed.

What is kept survives a change of basis, ranges, colours, padding and depth; a layer that a new map needs is gathered
from the hits of the first cast. Sheets with more samples than `cast.MOST_SAMPLES` are worked through in bands, and
their rays are traced again for such a layer.
"""

import time
from collections.abc import Callable
from dataclasses import dataclass, field, fields, replace
from functools import partial
from typing import Any

from . import maps
from .again import cast_tiles, changed_rays, finished, gather_tiles, same_low, tiles_of, with_hits
from .arrays import I32, I64, Any_
from .assembly import Assembly, BakeMeshes, Sculpt, Warm
from .basis import tangents_for
from .cage import Cage, rays_of
from .cast import Cast, Hits, bands_of, cast_rays, empty_cast, empty_hits
from .fit import cage_of
from .free_memory import free
from .gather import RAWS, empty
from .ground import Ground
from .low import Low, prepare_lows
from .mesh import Mesh, corner_positions
from .rays import Rays
from .recipe import PROOF_SIDE, RAYLESS, Recipe
from .room import on_disk
from .sheet import nearest_covered
from .sheets import lay_out_sheets
from .turns import Turns, by_pair, turns_of

MOST_AGAIN = 0.5  # of the busy tiles: with more, a whole cast is quicker
SPARE = 0.4  # of the memory that is free, for copies

Progress = Callable[[float], None]
Tell = Callable[[str, float], None]
Look = Callable[["SheetWork", Ground, str, Any_ | None], None]
Cancel = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class Layer:
    """A raw layer (H, W, C), and the settings that it was gathered with; `rough` is it before it was finished."""

    settings: object
    values: Any_
    rough: Any_ | None = None

    @property
    def gathered(self) -> Any_:
        """The values before they were finished."""
        return self.values if self.rough is None else self.rough


@dataclass(slots=True)
class SheetWork:
    """A sheet, its rays, and what they found: a cast, its hits where they can be kept, layers by key.

    again (K,) int64 are tiles of these that must be cast and gathered anew.
    """

    name: str
    low: Low
    rays: Rays
    cast: Cast | None = None
    hits: Hits | None = None
    raws: dict[str, Layer] = field(default_factory=dict)
    padded: tuple[int, I32] | None = None
    again: I64 | None = None

    @property
    def keeps(self) -> bool:
        """Whether another bake can go on from what was found: all of it is there, in memory."""
        return self.cast is not None and self.hits is not None and self.again is None and not on_disk(self.cast.normal)

    @property
    def size(self) -> int:
        """Bytes of what was found."""
        arrays = [getattr(own, f.name) for own in (self.cast, self.hits) if own is not None for f in fields(own)]
        arrays += [layer.values for layer in self.raws.values()]
        return sum(array.nbytes for array in arrays if hasattr(array, "nbytes"))

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

    `cast_from` tells all that hits and layers come from beside rays and low: sculpt, roles, sampling. `spent` are
    seconds of the last `fill` by layer, `spent_on` by pair; `recast` is the number of tiles that were cast in it.
    """

    sheets: list[SheetWork]
    cage: Cage
    outside: int
    meshes: list[Mesh]  # held, so that the key's identities stay theirs
    cast_from: tuple[object, ...]
    spent: dict[str, float] = field(default_factory=dict)
    spent_on: dict[int, float] = field(default_factory=dict)
    recast: int = 0


def laid_out(
    assembly: Assembly, meshes: BakeMeshes, warm: Warm, tell: Progress = lambda share: None
) -> LaidOut:  # fmt: skip
    """The piece on its sheets, as it was left by the last bake if nothing changed since that rays heed."""
    recipe, held = assembly.recipe, [mesh for _, mesh, _ in meshes.distinct()]
    given = recipe.model_dump(mode="json", exclude=RAYLESS)
    given["sheet"].pop("padding")
    key = f"{given} {[id(mesh) for mesh in held]} {warm.sculpt(assembly).serial} {assembly.relief is not None}"
    small = max(recipe.sheet.width, recipe.sheet.height) <= PROOF_SIDE  # a proof does not drive out a full bake
    before: LaidOut | None = warm.last(f"laid out {small}")
    return warm.once(f"laid out {small}", key, lambda: _lay_out(assembly, held, warm, tell, before))


def _lay_out(assembly: Assembly, held: list[Mesh], warm: Warm, tell: Progress, before: LaidOut | None) -> LaidOut:
    recipe, layout = assembly.recipe, lay_out_sheets(assembly.recipe, assembly.low)
    lows = prepare_lows(assembly.low, layout.sheets, recipe.sheet.channel, recipe.sheet.samples)
    cage = cage_of(assembly, warm, tell)
    sheets = [
        SheetWork(plan.name, low, rays_of(assembly, cage, low.triangles))
        for plan, low in zip(layout.sheets, lows, strict=True)
    ]
    members = [(pair.name, role, part.key) for pair in assembly.paired.pairs for role, part in pair.members]
    cast_from = warm.sculpt(assembly).serial, members, recipe.sheet.adaptive
    made = LaidOut(sheets, cage, layout.outside, held, cast_from)
    if before and before.cast_from == made.cast_from:
        _take_over(before, made, assembly)
    return made


def _take_over(before: LaidOut, made: LaidOut, assembly: Assembly) -> None:
    """Keep what an earlier bake found where the rays are the same, and mark the tiles that must be cast again.

    A sheet of which most changed is cast whole: that needs no copies. So is one whose copies would not fit beside it.
    """
    old = {sheet.name: sheet for sheet in before.sheets}
    pairs = [(old[sheet.name], sheet) for sheet in made.sheets if sheet.name in old]
    same = [(one, sheet) for one, sheet in pairs if one.keeps and same_low(one.low, sheet.low)]
    if not same or sum(one.size for one, _ in same) > SPARE * free():
        return
    changed = changed_rays(corner_positions(assembly.low), before.cage, made.cage)
    for one, sheet in same:
        tiles = tiles_of(sheet.low.grid, changed[sheet.low.triangles])
        if len(tiles) <= MOST_AGAIN * len(sheet.low.grid.busy_tiles):
            sheet.cast, sheet.hits, sheet.raws, sheet.padded = one.cast, one.hits, dict(one.raws), one.padded
            sheet.again = tiles


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
    laid.recast = 0
    area = sum(sheet.low.grid.width * sheet.low.grid.height for sheet in laid.sheets)
    done = 0.0
    for sheet in laid.sheets:
        if sheet.cast is None or sheet.again is not None:
            laid.recast += len(sheet.low.grid.busy_tiles if sheet.again is None else sheet.again)
        if sheet.again is not None:
            _fill_again(sheet, recipe, assembly, sculpt, warm, tell, cancelled, laid)
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
    sheet.cast = cast
    for key, out in outs.items():
        sheet.raws[key] = _finished(key, out, ground, tell, cancelled, spent)


def _finished(
    key: str, out: Any_, ground: Ground, tell: Tell, cancelled: Cancel, spent: dict[str, float]
) -> Layer:  # fmt: skip
    """A layer after what is done to the whole of it at the end."""
    settings, timed = RAWS[key].depends(ground.recipe), _Clock(spent)
    smooth = finished(ground, key, out, partial(_at, tell, key), cancelled)
    timed.count(key)
    return Layer(settings, out) if smooth is None else Layer(settings, smooth, out)


def _fill_again(
    sheet: SheetWork, recipe: Recipe, assembly: Assembly, sculpt: Sculpt, warm: Warm, tell: Tell, cancelled: Cancel,
    laid: LaidOut,
) -> None:  # fmt: skip
    """Cast and gather the tiles `sheet.again` anew, of every layer that is there; all else stays."""
    tiles, before, kept = sheet.again, sheet.cast, sheet.hits
    if tiles is None or before is None or kept is None:
        raise ValueError("_fill_again: nothing was taken over for this sheet")
    raws = {key: layer for key, layer in sheet.raws.items() if layer.settings == RAWS[key].depends(recipe)}
    if len(tiles):
        timed, made = _Clock(laid.spent), dict[str, Layer]()
        cast, fresh = cast_tiles(
            sheet.ground(assembly, sculpt, warm), before, tiles, partial(_at, tell, "rays"), cancelled
        )
        timed.count("rays")
        ground = sheet.ground(assembly, sculpt, warm, cast)
        for key, layer in raws.items():
            out = gather_tiles(ground, key, layer.gathered, tiles, fresh, partial(_at, tell, key), cancelled)
            timed.count(key)
            made[key] = _finished(key, out, ground, tell, cancelled, laid.spent)
        sheet.cast, sheet.hits, raws = cast, with_hits(kept, fresh), made
    sheet.raws, sheet.again = raws, None


def _at(tell: Tell, key: str, share: float) -> None:
    """Tell the layer at work, and nothing done of the whole: tiles cast again take a moment."""
    tell(key, 0.0)


class _Clock:
    """Adds the time since it was last asked to seconds by name."""

    def __init__(self, spent: dict[str, float]) -> None:
        self._spent, self._since = spent, time.perf_counter()

    def count(self, name: str) -> None:
        now = time.perf_counter()
        self._spent[name] = round(self._spent.get(name, 0.0) + now - self._since, 4)
        self._since = now
