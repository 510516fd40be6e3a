"""The order of tiles: pair after pair, so that work on them can be told and timed by pair."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F64, I32, I64
from .rasterise import Grid


@dataclass(frozen=True, slots=True)
class Turns:
    """Some tiles in the order in which they are worked through.

    tiles (K,) int64; pairs (N,) int32 whose turns follow one another, and ends (N,) float64, the share of the tiles
    that is done after each.
    """

    tiles: I64
    pairs: I32
    ends: F64

    def at(self, share: float) -> int:
        """The pair at work when a share of the tiles is done; -1 for no tiles."""
        if not len(self.ends):
            return -1
        return int(self.pairs[min(int(np.searchsorted(self.ends, share, "right")), len(self.ends) - 1)])

    def spread(self, begin: float, end: float, seconds: float, spent: dict[int, float]) -> None:
        """Count the seconds from one share done to the next for the pairs whose turn it was."""
        if end <= begin:
            return
        starts = np.concatenate([[0.0], self.ends[:-1]])
        overlap = np.minimum(self.ends, end) - np.maximum(starts, begin)
        for n in np.flatnonzero(overlap > 0):
            pair = int(self.pairs[n])
            spent[pair] = spent.get(pair, 0.0) + seconds * float(overlap[n]) / (end - begin)


def by_pair(grid: Grid, pair: I32) -> I64:
    """The busy tiles of a sheet, ordered by the pair that most of their triangles are of; `pair` is each triangle's."""
    busy = grid.busy_tiles
    return busy[np.argsort(_main_pairs(grid, pair, busy), kind="stable")]


def turns_of(grid: Grid, pair: I32, tiles: I64) -> Turns:
    """The turns of tiles that come in this order."""
    main = _main_pairs(grid, pair, tiles)
    last = np.flatnonzero(np.append(main[1:] != main[:-1], True)) if len(main) else np.zeros(0, np.int64)
    return Turns(tiles, main[last].astype(np.int32), (last + 1) / max(len(tiles), 1))


def _main_pairs(grid: Grid, pair: I32, tiles: I64) -> I32:
    """The pair that most triangles of each tile are of."""
    counts = np.diff(grid.starts)[tiles]
    of_triangle = pair[
        np.concatenate([np.zeros(0, np.int32), *(grid.listed[grid.starts[t] : grid.starts[t + 1]] for t in tiles)])
    ]
    width = int(pair.max(initial=0)) + 1
    codes, times = np.unique(np.repeat(np.arange(len(tiles)), counts) * width + of_triangle, return_counts=True)
    order = np.lexsort((times, codes // width))  # of each tile the most frequent comes last
    last = np.cumsum(np.bincount(codes // width, minlength=len(tiles))) - 1
    return (codes[order][last] % width).astype(np.int32)
