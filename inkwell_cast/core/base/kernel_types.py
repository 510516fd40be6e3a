"""Types that kernels hand to each other.

What a kernel takes and gives is written as a reader of Python sees it: `int` and `float` are numbers of 64 bits where
nothing else is said, arrays are named in `array_types`, records in `records`.
"""

from typing import Any

import numpy as np

Whole = int | np.integer[Any]  # numbers that are of some width in between
Narrow = float | np.floating[Any]
Vector = tuple[float, float, float]  # a point or a direction
Hit = tuple[float, float, float, Whole]  # length, u and v, triangle; -1 for nothing
