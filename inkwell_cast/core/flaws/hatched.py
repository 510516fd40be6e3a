"""What the views hatch of the flaws of a bake: kept beside its maps, and asked which of them a place lies in."""

import pathlib
from collections.abc import Sequence

import numpy as np

from ..mesh.binary_message import pack, unpack, write_blocks
from ..mesh.marks import Marks
from ..rays.along_surface import Place
from . import MarkedFlaw
from .flaw import Flaw

NEAR = 0.004  # of the low's diagonal: how far off what is hatched of a flaw a place may lie that is of it


def write_marks(path: pathlib.Path, shown: Sequence[MarkedFlaw | Marks]) -> None:
    """Keep what the views hatch of some flaws, in their order."""
    ends = np.cumsum([0, *[len(flaw.corners) for flaw in shown]]).astype(np.int32)
    none = np.zeros((0, 3, 3), np.float32), np.zeros((0, 3, 2), np.float32)
    corners = np.concatenate([none[0], *[flaw.corners for flaw in shown]])
    flat = [flaw.uvs if len(flaw.uvs) else np.zeros((len(flaw.corners), 3, 2), np.float32) for flaw in shown]
    uvs = np.concatenate([none[1], *flat])
    write_blocks(path, pack({"on_low": [s.on_low for s in shown]}, {"ends": ends, "corners": corners, "uvs": uvs}))


def marks_in(path: pathlib.Path, number: int) -> Marks:
    """What the views hatch of one flaw. Raises IndexError for a number that there is none of."""
    header, a = unpack(np.fromfile(path, np.uint8))
    if not 0 <= number < len(a["ends"]) - 1:
        raise IndexError(number)
    rows = slice(int(a["ends"][number]), int(a["ends"][number + 1]))
    on_low = header.get("on_low", [True] * number + [True])[number]
    return Marks(a["corners"][rows], a["uvs"][rows if on_low else slice(0)], on_low=on_low)


def flaw_at(flaws: list[Flaw], path: pathlib.Path, place: Place, diagonal: float) -> int | None:
    """The number of the flaw that a place of the low lies in, by what is hatched of each; of several the nearest.

    `diagonal` is that of the low; `path` what `write_marks` kept of the flaws.
    """
    within = list[tuple[float, int]]()
    for number, flaw in enumerate(flaws):
        if np.linalg.norm(np.subtract(flaw.middle, place)) > flaw.radius + NEAR * diagonal:
            continue
        corners = marks_in(path, number).corners
        middles = corners.mean(axis=1, dtype=np.float64)
        sizes = np.linalg.norm(corners - middles[:, None], axis=2).max(axis=1)
        apart = np.sqrt(2 * flaw.area / max(len(corners), 1))  # where only some of it is hatched
        gap = float((np.linalg.norm(middles - place, axis=1) - sizes).min(initial=np.inf))
        if gap <= max(NEAR * diagonal, float(apart)):
            within.append((gap, number))
    return min(within)[1] if within else None
