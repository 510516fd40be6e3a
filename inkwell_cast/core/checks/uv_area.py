"""UV triangles without area, folded over inside their island, and islands that are mirrored as a whole."""

from collections.abc import Iterator

import numpy as np

from ..base.array_types import F32, F64
from .finding import Finding, Inspected, Subject, plural

KEY = "uv_area"
TITLE = "Flat or flipped UVs"
FLAT = 1e-12  # of the tile


def signed_area(uvs: F32) -> F64:
    """Area of UV triangles (T, 3, 2), positive where they are not mirrored: (T,)."""
    p = uvs.astype(np.float64)
    a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    return np.asarray((a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2)


def find(piece: Inspected) -> Iterator[Finding]:
    mirrored = 0
    for low in piece.lows:
        if low.uvs is None or not len(low.uvs):
            continue
        area = signed_area(low.uvs)
        corners = low.mesh.positions[low.mesh.triangles].astype(np.float64)
        solid = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) > 0
        flat = (np.abs(area) < FLAT) & solid
        if flat.any():
            count = int(flat.sum())
            yield Finding(
                KEY,
                "warning",
                "UVs without area",
                low.part.key,
                count,
                f"{plural(count, 'triangle')} of {low.part.name} with UVs that are a line or a point: nothing is baked there.",
                "Unwrap them again.",
                marks=low.marks(flat),
            )
        turn = _majority(low, area)
        folded = (np.sign(area) * turn < 0) & ~flat
        if folded.any():
            count = int(folded.sum())
            yield Finding(
                KEY,
                "warning",
                "Folded UVs",
                low.part.key,
                count,
                f"{plural(count, 'triangle')} of {low.part.name} turned over inside the island: detail there is mirrored and "
                "overlaps.",
                "Relax or unwrap the island again.",
                marks=low.marks(folded),
            )
        mirrored += len(np.unique(low.islands[turn < 0]))
    if mirrored:
        yield Finding(
            KEY,
            "note",
            "Mirrored islands",
            "",
            mirrored,
            f"{plural(mirrored, 'island')} mirrored as a whole. Tangent-space maps are right there; lettering would read "
            "backwards.",
            "Nothing, if you meant it.",
        )


def _majority(low: Subject, area: F64) -> F64:
    """The orientation of each triangle's island, by area: (T,) of -1 or 1."""
    return np.where(np.bincount(low.islands, area) < 0, -1.0, 1.0)[low.islands]
