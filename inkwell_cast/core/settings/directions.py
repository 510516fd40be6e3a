"""A way in space, as it is typed."""

import math
from typing import Annotated

from pydantic import AfterValidator

AXES = tuple(sign + axis for axis in "xyz" for sign in "+-")


def way_in(words: str) -> tuple[float, float, float]:
    """The unit way of "+y", or of three numbers such as "1 2 0". Raises ValueError for what is none."""
    said = words.strip().lower()
    if said in AXES:
        return tuple((1.0 if said[0] == "+" else -1.0) * (axis == said[1]) for axis in "xyz")  # type: ignore[return-value]
    try:
        x, y, z = (float(word) for word in said.split())
        length = math.sqrt(x * x + y * y + z * z)
    except (ValueError, OverflowError):
        length = 0.0
    if not 0 < length < math.inf:
        raise ValueError(f"“{words[:40]}” is no way; give one of {', '.join(AXES)}, or three numbers such as 1 2 0")
    return x / length, y / length, z / length


def _checked(words: str) -> str:
    way_in(words)
    return words


Way = Annotated[str, AfterValidator(_checked)]
