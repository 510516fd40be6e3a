"""Likeness: how close the low with its written map is to the sculpt.

For each texel that struck the sculpt, the angle between the sculpt's shading normal and the normal that the written
picture gives back through the basis, so that quantisation counts.
"""

import numpy as np
from pydantic import BaseModel

from ..base.array_types import F32, I32, U8, U16, AnyArray
from ..base.kernels import kernel, prange
from ..cast.hits import Cast
from ..flaws.visible import BARE

MISSED, OFF, TOP = 65535, 65534, 65533
GROUND = np.array([224, 217, 203], np.uint8)  # off the low
SCALE = (  # degrees, and the colour that stands for them
    (0.0, (243, 238, 227)),
    (1.0, (233, 208, 140)),
    (5.0, (221, 130, 52)),
    (15.0, (160, 47, 32)),
    (45.0, (58, 18, 48)),
)

BETTER = (  # the same for degrees by which a bake is seen better than another, and worse
    (0.0, (243, 238, 227)),
    (2.0, (156, 200, 188)),
    (10.0, (46, 132, 116)),
    (30.0, (11, 62, 60)),
)
WORSE = (
    (0.0, (243, 238, 227)),
    (2.0, (236, 190, 160)),
    (10.0, (196, 82, 48)),
    (30.0, (84, 18, 22)),
)
HATCH = np.array([[196, 64, 45], [246, 220, 211]], np.uint8)  # its lines, and between them


class Likeness(BaseModel):
    """Angles in degrees; shares from 0 to 1 of the texels that struck the sculpt."""

    mean: float
    median: float
    p95: float
    under_1: float
    under_5: float


def angles(cast: Cast, given_back: F32) -> F32:
    """Angle in degrees at every texel, (H, W) float32; NaN where no ray struck. `given_back` as of `Map.read_back`."""
    out = np.empty(cast.struck.shape, np.float32)
    _angles(cast.struck, cast.normal, given_back, out)
    return out


def likeness(cast: Cast, given_back: F32) -> Likeness | None:
    """The figures for a whole sheet; None where nothing was struck."""
    degrees = angles(cast, given_back)
    return figures(degrees[~np.isnan(degrees)])


def figures(degrees: F32) -> Likeness | None:
    """The figures of some angles (N,); None where there are none."""
    if not len(degrees):
        return None
    median, p95 = np.percentile(degrees, [50, 95])
    return Likeness(
        mean=float(degrees.mean(dtype=np.float64)),
        median=float(median),
        p95=float(p95),
        under_1=float((degrees < 1).mean()),
        under_5=float((degrees < 5).mean()),
    )


def by_pair(sheets: list[tuple[F32, I32]], pairs: int) -> list[Likeness | None]:
    """The figures of every pair, from angles (H, W) and the pair of each texel (H, W) on every sheet."""
    parts: list[list[F32]] = [[] for _ in range(pairs)]
    for angle, pair in sheets:
        struck = ~np.isnan(angle)
        pair_struck, values = pair[struck], angle[struck]
        order = np.argsort(pair_struck, kind="stable")
        ends = np.searchsorted(pair_struck[order], np.arange(pairs + 1))
        for n in range(pairs):
            parts[n].append(values[order[ends[n] : ends[n + 1]]])
    return [figures(np.concatenate(part)) if part else None for part in parts]


def stored(degrees: F32, covered: U8) -> U16:
    """Angles (H, W) as a grey picture (H, W, 1): `TOP` steps over 180 degrees, MISSED or OFF where no ray struck.

    `covered (H, W)` is not 0 on the low.
    """
    steps = np.rint(np.nan_to_num(degrees) * np.float32(TOP / 180)).astype(np.uint16)
    steps[np.isnan(degrees)] = MISSED
    steps[covered == 0] = OFF
    return steps[..., None]


def degrees(steps: AnyArray) -> float:
    """The angle of one texel of such a picture."""
    return float(steps) * 180 / TOP


def heat(steps: U16) -> U8:
    """Such a picture (H, W) in colours (H, W, 3) from pale to dark, as `SCALE` says; misses are hatched."""
    shades = np.array([color for _, color in SCALE], np.float64)
    at = [angle * TOP / 180 for angle, _ in SCALE]
    table = np.stack([np.interp(np.arange(MISSED + 1), at, shades[:, c]) for c in range(3)], axis=1)
    out = np.rint(table).astype(np.uint8)[steps]
    out[steps == OFF] = GROUND
    y, x = np.nonzero(steps == MISSED)
    out[y, x] = np.where(((x + y) % 7 < 3)[:, None], *HATCH)
    return out


def difference(before: U16, now: U16) -> U8:
    """Where the second of two pictures of `stored` (H, W) is nearer to the sculpt, and where farther: (H, W, 3).

    Where one of them has no sculpt to see, it is `BARE` from it.
    """
    was, is_now = (np.where(each == MISSED, BARE * TOP / 180, each).astype(np.float32) for each in (before, now))
    change = (is_now - was) * np.float32(180 / TOP)
    out = np.empty((*now.shape, 3), np.uint8)
    for scale, on in ((BETTER, change <= 0), (WORSE, change > 0)):
        at, shades = [angle for angle, _ in scale], np.array([color for _, color in scale], np.float64)
        out[on] = np.rint(np.stack([np.interp(np.abs(change[on]), at, shades[:, c]) for c in range(3)], axis=-1))
    out[now == OFF] = GROUND
    return out


@kernel(parallel=True)
def _angles(struck: U8, normal: F32, given_back: F32, out: F32) -> None:
    height, width = struck.shape
    for y in prange(height):
        for x in range(width):
            if struck[y, x] == 0:
                out[y, x] = np.nan
                continue
            ax, ay, az = np.float64(normal[y, x, 0]), np.float64(normal[y, x, 1]), np.float64(normal[y, x, 2])
            bx, by, bz = given_back[y, x, 0], given_back[y, x, 1], given_back[y, x, 2]
            cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
            sine = np.sqrt(cx * cx + cy * cy + cz * cz)
            out[y, x] = np.degrees(np.arctan2(sine, ax * bx + ay * by + az * bz))
