"""What a map gives: values from 0 to 1 and what must be known to read them."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..base.array_types import F32, AnyArray

BINS = 61


@dataclass(frozen=True, slots=True)
class Derived:
    """image (H, W, C) float32 from 0 to 1; facts go into the manifest: ranges in scene units, legends, shares.

    exact() gives the values themselves, (H, W, C) float32, in scene units or linear light, for formats that hold them;
    None where they are those of the image.
    """

    image: F32
    facts: dict[str, Any] = field(default_factory=dict)
    exact: Callable[[], F32] | None = None


def signed(values: F32, struck: AnyArray, full: float | str, percentile: float) -> tuple[F32, dict[str, Any]]:
    """Values (H, W) about mid-grey, the picture (H, W, 1), and its `facts_of`.

    `full` "auto" takes a percentile of the absolute values that were struck. Where nothing was struck it is mid-grey.
    """
    struck_values = values[struck > 0]
    top = automatic(np.abs(struck_values), percentile) if full == "auto" else float(full)
    image = np.clip(values / np.float32(2 * top) + np.float32(0.5), 0, 1).astype(np.float32)
    image[struck == 0] = 0.5
    facts = facts_of(struck_values, np.abs(struck_values) > top * 1.0001)
    return image[..., None], {"black": -top, "white": top} | facts


def one_sided(values: F32, struck: AnyArray, full: float | str, percentile: float) -> tuple[F32, dict[str, Any]]:
    """Positive values from black to white: the picture (H, W, 1) and its `facts_of`; black where nothing was struck."""
    struck_values = values[struck > 0]
    top = automatic(np.abs(struck_values), percentile) if full == "auto" else float(full)
    image = np.clip(values / np.float32(top), 0, 1).astype(np.float32)
    image[struck == 0] = 0
    return image[..., None], {"black": 0.0, "white": top} | facts_of(struck_values, struck_values > top * 1.0001)


def facts_of(values: F32, clipped: AnyArray) -> dict[str, Any]:
    """The share of texels beyond the range, and a histogram over a symmetric span that holds 99.8 % of them."""
    span = automatic(np.abs(values), 99.8)
    counts, _ = np.histogram(values, BINS, (-span, span))
    share = float(clipped.mean()) if len(values) else 0.0
    return {"clipped_share": share, "histogram": {"span": span, "counts": counts.tolist()}}


def automatic(values: F32, percentile: float) -> float:
    """A percentile of some values, or 1 where there is nothing to go by."""
    top = float(np.percentile(values, percentile)) if len(values) else 0.0
    return top if top > 1e-30 else 1.0
