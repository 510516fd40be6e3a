"""Lows without UVs in the channel that the sheet is laid out by."""

from collections.abc import Iterator

import numpy as np

from ..base.array_types import AnyArray
from .finding import Finding, Inspected, plural

KEY = "uvs"
TITLE = "No UVs"


def find(piece: Inspected) -> Iterator[Finding]:
    for low in piece.lows:
        mesh, channel = low.mesh, low.channel
        lacking: AnyArray
        if channel < len(mesh.uvs):
            lacking = np.asarray((mesh.uvs[channel].corners < 0).any(axis=1))
        else:
            lacking = np.ones(len(mesh.triangles), bool)
        count = int(lacking.sum())
        if count:
            yield Finding(
                KEY,
                "blocking",
                TITLE,
                low.part.key,
                count,
                f"{plural(count, 'triangle')} of {len(lacking):,} without UVs in channel {channel}: there is nowhere to bake to.",
                "Unwrap it and export it with its UVs" + (", or choose another channel." if mesh.uvs else "."),
                marks=low.marks(lacking),
            )
