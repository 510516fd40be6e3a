"""What compiled code sees of a record: fields by name, of several shapes, packed and not, and a record in a record."""

import numba as nb
import numpy as np
import pytest

from inkwell_cast.core.base.records import record_kind, record_of, rows_of, view

POINT = np.dtype([("x", np.float64), ("y", np.float64)])
INNER = record_kind({"weights": np.float32})
OUTER = record_kind(
    {"points": POINT, "turns": (np.float64, 2, 2), "grid": (np.int32, "height", "width"), "inner": INNER},
    height=np.int64,
    width=np.int64,
)


def numbers_of(record):
    points, turns, grid = view(record, "points"), view(record, "turns"), view(record, "grid")
    inner = view(view(record, "inner"), "weights")
    return points.size, points[1].y, turns.shape, turns[1, 0, 1], grid.shape, grid[1, 2], inner[3]


def made(**values):
    given = {
        "points": rows_of([[1, 2], [3, 4], [5, 6]], POINT),
        "turns": np.arange(8.0).reshape(2, 2, 2),
        "grid": np.arange(12, dtype=np.int32).reshape(3, 4),
        "inner": record_of(INNER, weights=np.float32([0, 0.25, 0.5, 0.75])),
        "height": 3,
        "width": 4,
    }
    return record_of(OUTER, **given | values)


def test_fields_are_arrays_of_their_shapes_in_compiled_code():
    assert nb.njit(numbers_of)(made()) == (3, 4.0, (2, 2, 2), 5.0, (3, 4), 6, 0.75)


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"turns": np.zeros((2, 2, 2), np.float32)}, "turns must be a contiguous array of float64, not of float32"),
        ({"grid": np.zeros((4, 6), np.int32)[:, ::2]}, "grid must be a contiguous array"),
        ({"hight": 3}, "hight"),
    ],
)
def test_what_does_not_fit_is_refused(wrong, words):
    with pytest.raises(TypeError, match=words):
        made(**wrong)


def test_two_kinds_of_the_same_fields_are_refused():
    with pytest.raises(TypeError, match="another kind has the fields weights"):
        record_kind({"weights": np.float64})
