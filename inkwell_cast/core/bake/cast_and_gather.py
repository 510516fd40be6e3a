"""Casting and gathering what the maps of a recipe need and what is not there yet."""

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from .. import maps
from ..base.array_types import I64, AnyArray
from ..base.progress import Cancel, Progress, ShareDone
from ..cast.context import Context
from ..cast.hits import Cast, Hits, bands_of, empty_cast, empty_hits
from ..cast.kernel import cast_rays
from ..cast.partial_rebake import cast_tiles, with_hits
from ..maps import LAYERS
from ..maps.layer import empty, finished, gather_tiles
from ..piece.piece import Assembly
from ..piece.scene_cache import Warm
from ..piece.sculpt import Sculpt
from ..settings.staleness import gathered, settings_behind
from ..uv.tile_order import Turns, by_pair, turns_of
from .bands import BandResult, put
from .cast_cache import GatheredLayer, LaidOut, SheetWork
from .preview import Preview

BandsOfSheet = Callable[[I64, tuple[str, ...]], Iterator[BandResult]]  # of tiles and layers of a sheet
Bands = Callable[[int, I64, tuple[str, ...]], Iterator[BandResult]]  # of those of the sheet of a number


def cast_and_gather(
    laid: LaidOut,
    assembly: Assembly,
    sculpt: Sculpt,
    warm: Warm,
    tell: Progress,
    cancelled: Cancel,
    on_disk: bool = False,
    preview: Preview | None = None,
    remote: Bands | None = None,
) -> None:
    """Cast and gather what the recipe's maps need and what is not there yet; `on_disk` says where it is to lie.

    With `remote` bands, sheets that are to be cast whole are found by others.

    `tell(layer, share)` hears what is at work, "rays" for the cast, with the pair whose turn it is where there are
    several ("rays · lid"), and how much of all is done. `preview` is shown the layer at work now and then. Raises
    Cancelled.
    """
    laid.spent, laid.spent_on, laid.recast = {}, {}, 0
    wanted = dict.fromkeys(maps.REGISTRY[key].LAYER for key in assembly.recipe.output.maps)
    if assembly.recipe.decals.soft:
        wanted["decals"] = None
    wanted.pop("", None)
    area = sum(sheet.low.grid.width * sheet.low.grid.height for sheet in laid.sheets)
    done = 0.0
    for number, sheet in enumerate(laid.sheets):
        size = sheet.low.grid.width * sheet.low.grid.height / area
        work = _SheetWork(
            sheet,
            laid,
            assembly,
            sculpt,
            warm,
            _Part(tell, done, size),
            cancelled,
            on_disk,
            preview,
            partial(remote, number) if remote else None,
        )
        work.fill(list(wanted))
        done += size


@dataclass(frozen=True, slots=True)
class _Part:
    """Tells of a part of the whole, which begins at `first` and is `size` of it."""

    tell: Progress
    first: float
    size: float

    def __call__(self, words: str, share: float) -> None:
        self.tell(words, self.first + share * self.size)


@dataclass(slots=True)
class _SheetWork:
    """The work on one sheet."""

    sheet: SheetWork
    laid: LaidOut
    assembly: Assembly
    sculpt: Sculpt
    warm: Warm
    tell: _Part
    cancelled: Cancel
    on_disk: bool
    preview: Preview | None
    remote: BandsOfSheet | None
    prepared: dict[str, Any] = field(default_factory=dict)

    def fill(self, wanted: list[str]) -> None:
        """Renew what must be cast again, then cast and gather what lacks of the wanted layers."""
        sheet = self.sheet
        if sheet.cast is None or sheet.again is not None:
            self.laid.recast += len(sheet.low.grid.busy_tiles if sheet.again is None else sheet.again)
        if sheet.again is not None:
            self._renew_tiles()
        lacking = [key for key in wanted if self._lacks(key)]
        if sheet.cast is None or lacking:
            self._cast_and_gather(lacking)

    def _lacks(self, key: str) -> bool:
        """Whether a layer is not there, or was gathered with other settings."""
        known = self.sheet.layers.get(key)
        return known is None or known.settings != settings_behind(self.assembly.recipe, gathered(key))

    def _context(self, cast: Cast | None = None) -> Context:
        return self.sheet.context(self.assembly, self.sculpt, self.warm, cast)

    def _cast_and_gather(self, lacking: list[str]) -> None:
        """Cast the sheet, unless that is done, and gather the layers that lack, band by band."""
        sheet = self.sheet
        cast = sheet.cast or empty_cast(sheet.low.grid, self.on_disk)
        context = self._context(cast)
        outs = {key: empty(LAYERS[key], cast, self.on_disk) for key in lacking}
        if self.remote and sheet.cast is None:
            self._from_remote(self.remote, context, outs)
        else:
            self._band_by_band(context, outs)
        sheet.cast = cast
        for key, out in outs.items():
            sheet.layers[key] = self._finished(key, out, context)

    def _from_remote(self, find: BandsOfSheet, context: Context, outs: dict[str, AnyArray]) -> None:
        """Put the bands that others find into the sheet, as they come."""
        grid, clock = self.sheet.low.grid, _Clock(self.laid.spent)
        tiles, done = by_pair(grid, self.sheet.rays.pair), 0
        for found in find(tiles, tuple(outs)):
            put(found, grid, context.cast, outs)
            done += len(found.tiles)
            self.tell("rays", done / len(tiles))
            clock.count("remote")
            if self.preview:
                for key in outs:
                    self.preview.look(self.sheet.name, context, key, outs[key])

    def _band_by_band(self, context: Context, outs: dict[str, AnyArray]) -> None:
        sheet, grid, recipe, cast = self.sheet, self.sheet.low.grid, self.assembly.recipe, context.cast
        lacking = list(outs)
        bands = [turns_of(grid, sheet.rays.pair, tiles) for tiles in bands_of(grid, by_pair(grid, sheet.rays.pair))]
        costs = {"rays": 0.0 if sheet.hits else 1.0} | {key: LAYERS[key].cost(recipe) for key in lacking}
        steps = _Steps(self, context, costs, max(sum(costs.values()), 1e-9) * len(bands))
        for turns in bands:
            hits = sheet.hits
            if hits is None:
                hits = empty_hits(grid, turns.tiles)
                with_rays = steps.begin("rays", turns, None)
                cast_rays(
                    sheet.low,
                    sheet.rays,
                    self.sculpt,
                    cast,
                    hits,
                    with_rays.heard,
                    self.cancelled,
                    recipe.sheet.adaptive,
                )
                with_rays.end()
            for key in lacking:
                step = steps.begin(key, turns, outs[key])
                self._gather(context, key, hits, outs[key], step)
                step.end()
            if len(bands) == 1:
                sheet.hits = hits

    def _gather(self, context: Context, key: str, hits: Hits, out: AnyArray, step: "_Step") -> None:
        if key not in self.prepared:
            self.prepared[key] = LAYERS[key].prepare(context)
        LAYERS[key].gather(context, hits, self.prepared[key], out, step.heard, self.cancelled)

    def _finished(self, key: str, out: AnyArray, context: Context) -> GatheredLayer:
        """A layer after what is done to the whole of it at the end."""
        clock = _Clock(self.laid.spent)
        smooth = finished(context, LAYERS[key], out, lambda share: self.tell(key, 0.0), self.cancelled)
        clock.count(key)
        settings = settings_behind(context.recipe, gathered(key))
        return GatheredLayer(settings, out) if smooth is None else GatheredLayer(settings, smooth, out)

    def _renew_tiles(self) -> None:
        """Cast and gather the tiles `sheet.again` anew, of every layer that is there; all else stays.

        Nothing of the whole is told done: it takes a moment.
        """
        sheet = self.sheet
        tiles, before, kept = sheet.again, sheet.cast, sheet.hits
        if tiles is None or before is None or kept is None:
            raise ValueError("_renew_tiles: nothing was taken over for this sheet")
        layers = {key: layer for key, layer in sheet.layers.items() if not self._lacks(key)}
        if len(tiles):
            clock, renewed = _Clock(self.laid.spent), dict[str, GatheredLayer]()
            cast, fresh = cast_tiles(
                self._context(), before, tiles, lambda share: self.tell("rays", 0.0), self.cancelled
            )
            clock.count("rays")
            context = self._context(cast)
            for key, layer in layers.items():
                out = gather_tiles(
                    context, LAYERS[key], layer.gathered, tiles, fresh, self._quietly(key), self.cancelled
                )
                clock.count(key)
                renewed[key] = self._finished(key, out, context)
            sheet.cast, sheet.hits, layers = cast, with_hits(kept, fresh), renewed
        sheet.layers, sheet.again = layers, None

    def _quietly(self, key: str) -> ShareDone:
        return lambda share: self.tell(key, 0.0)


@dataclass(slots=True)
class _Steps:
    """The steps of casting and gathering a sheet: `costs` of each, relative to tracing, and what they are in `all`."""

    work: _SheetWork
    context: Context
    costs: dict[str, float]
    all: float
    done: float = 0.0

    def begin(self, name: str, turns: Turns, values: AnyArray | None) -> "_Step":
        now = time.perf_counter()
        return _Step(self, name, turns, values, now, now)


@dataclass(slots=True)
class _Step:
    """One step at work on one band: tells its share, shows its values, and counts seconds by layer and by pair."""

    steps: _Steps
    name: str
    turns: Turns
    values: AnyArray | None
    started: float
    last: float
    share: float = 0.0

    def heard(self, share: float) -> None:
        """A share of the step is done."""
        steps, work, now = self.steps, self.steps.work, time.perf_counter()
        pairs, pair = work.assembly.paired.pairs, self.turns.at(share)
        self.turns.spread(self.share, share, now - self.last, work.laid.spent_on)
        self.last, self.share = now, share
        words = f"{self.name} · {pairs[pair].name}" if len(pairs) > 1 and pair >= 0 else self.name
        work.tell(words, (steps.done + share * steps.costs[self.name]) / steps.all)
        if work.preview:
            work.preview.look(work.sheet.name, steps.context, self.name, self.values)

    def end(self) -> None:
        """The whole step is done."""
        self.heard(1.0)
        self.steps.done += self.steps.costs[self.name]
        spent = self.steps.work.laid.spent
        spent[self.name] = round(spent.get(self.name, 0.0) + time.perf_counter() - self.started, 4)


class _Clock:
    """Adds the time since it was last asked to seconds by name."""

    def __init__(self, spent: dict[str, float]) -> None:
        self._spent, self._since = spent, time.perf_counter()

    def count(self, name: str) -> None:
        now = time.perf_counter()
        self._spent[name] = round(self._spent.get(name, 0.0) + now - self._since, 4)
        self._since = now
