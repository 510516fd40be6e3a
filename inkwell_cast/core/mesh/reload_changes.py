"""What a reload changed, in words."""

from collections.abc import Sequence
from typing import Protocol

import numpy as np


class PartLike(Protocol):
    @property
    def name(self) -> str: ...
    @property
    def triangles(self) -> int: ...
    @property
    def bounds(self) -> tuple[tuple[float, ...], tuple[float, ...]]: ...
    @property
    def uvs(self) -> str: ...


MOVED = 1e-5  # of the larger box's diagonal
MOST_NAMED = 3


def what_changed(before: Sequence[PartLike], after: Sequence[PartLike]) -> list[str]:
    """Sentences about counts, parts gone or new, bounds and UVs; one that says so if nothing did."""
    old, new = {p.name: p for p in before}, {p.name: p for p in after}
    both = [name for name in new if name in old]
    said = []
    counts = sum(p.triangles for p in before), sum(p.triangles for p in after)
    if counts[0] != counts[1]:
        said.append(f"{counts[0]:,} triangles became {counts[1]:,}.")
    for words, names in (
        ("New", [n for n in new if n not in old]),
        ("Gone", [n for n in old if n not in new]),
        ("Other triangles", [n for n in both if old[n].triangles != new[n].triangles]),
        ("Moved or reshaped", [n for n in both if _moved(old[n], new[n])]),
        ("UVs moved", [n for n in both if old[n].triangles == new[n].triangles and old[n].uvs != new[n].uvs]),
    ):
        if names:
            more = f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else ""
            said.append(f"{words}: {', '.join(names[:MOST_NAMED])}{more}.")
    return said or ["Nothing that counts: the same parts, bounds and UVs."]


def _moved(old: PartLike, new: PartLike) -> bool:
    a, b = np.array(old.bounds), np.array(new.bounds)
    size = max(float(np.linalg.norm(a[1] - a[0])), float(np.linalg.norm(b[1] - b[0])), 1e-20)
    return bool(np.abs(a - b).max() > MOVED * size)
