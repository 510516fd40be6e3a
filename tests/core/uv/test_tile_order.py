"""Tiles by pair: every tile once, one pair after the other, and seconds counted for whose turn it was."""

import numpy as np
import pytest

from inkwell_cast.core.uv.rasterise import grid
from inkwell_cast.core.uv.tile_order import by_pair, turns_of


@pytest.fixture
def columns():
    """A sheet of 8 × 8 tiles in three upright strips, of the pairs 1, 0 and 1."""
    strips = [(0, 0.25), (0.25, 0.625), (0.625, 1)]
    uvs = np.array([[[a, 0], [b, 0], [b, 1]] for a, b in strips] + [[[a, 0], [b, 1], [a, 1]] for a, b in strips])
    return grid(uvs.astype(np.float32), 512, 512, 1), np.array([1, 0, 1, 1, 0, 1], np.int32)


def test_tiles_come_pair_after_pair_each_once(columns):
    sheet, pair = columns
    tiles = by_pair(sheet, pair)
    assert sorted(tiles) == list(sheet.busy_tiles)
    turns = turns_of(sheet, pair, tiles)
    assert list(turns.pairs) == [0, 1]
    assert turns.ends[-1] == 1
    first = tiles[: round(turns.ends[0] * len(tiles))] % sheet.tiles_across
    assert 0.2 * sheet.tiles_across < first.min()
    assert first.max() <= 0.625 * sheet.tiles_across


def test_seconds_go_to_the_pairs_in_turn(columns):
    sheet, pair = columns
    turns, spent = turns_of(sheet, pair, by_pair(sheet, pair)), {}
    share = float(turns.ends[0])
    assert (turns.at(0), turns.at(share / 2), turns.at(1)) == (0, 0, 1)
    turns.spread(0, share / 2, 1.0, spent)
    turns.spread(share / 2, 1, 3.0, spent)
    assert spent[0] == pytest.approx(1 + 3 * (share / 2) / (1 - share / 2))
    assert sum(spent.values()) == pytest.approx(4)


def test_no_tiles_have_no_turn(columns):
    turns = turns_of(*columns, np.zeros(0, np.int64))
    assert turns.at(0.5) == -1
