"""Lows that are not triangulated: the receiver may cut their polygons another way than the bake."""

from collections.abc import Iterator

import numpy as np

from ..base.array_types import F64, I64
from ..mesh.mesh import Mesh
from ..mesh.normals import with_normals
from ..mesh.triangulation import TIE
from .finding import Finding, Inspected, plural

KEY = "polygons"
TITLE = "Not triangulated"
TIED = "Quads that tie"
REMEDY = "Use the triangulated low of the handoff and bake that, or triangulate before export."


def find(piece: Inspected) -> Iterator[Finding]:
    for low in piece.lows:
        rows = low.mesh.polygons
        if rows is None or not len(rows):
            continue
        _, place, uses = np.unique(rows, return_inverse=True, return_counts=True)
        cut = uses[place] > 1
        count = int((uses > 1).sum())
        if count:
            yield Finding(
                KEY,
                "note",
                TITLE,
                low.part.key,
                count,
                f"{plural(count, 'polygon')} of {low.part.name} were cut here, quads along their shorter diagonal. "
                "Another program may cut them the other way, and shading would differ.",
                REMEDY,
                marks=low.marks(cut),
            )
        tied, apart = tied_quads(low.mesh)
        if len(tied):
            marked = np.zeros(len(rows), np.bool_)
            marked[tied] = True
            yield Finding(
                KEY,
                "note",
                TIED,
                low.part.key,
                len(tied),
                f"Both diagonals of {plural(len(tied), 'quad')} of {low.part.name} are equally long: another program may "
                f"cut them otherwise. The low's normals lie up to {apart.max():.1f}° apart between both cuts, "
                f"{apart.mean():.1f}° in the mean, and a map that is worn by the other cut looks as wrong.",
                REMEDY,
                marks=low.marks(marked),
            )


def tied_quads(mesh: Mesh) -> tuple[I64, F64]:
    """Quads with diagonals of one length: their triangles (Q, 2), and how far the normals part between both cuts.

    Degrees (Q,), at the middle of the quad, where the two cuts differ most.
    """
    assert mesh.polygons is not None
    order = np.argsort(mesh.polygons, kind="stable")
    _, starts, uses = np.unique(mesh.polygons[order], return_index=True, return_counts=True)
    pairs = order[starts[uses == 2, None] + np.arange(2)]
    one, other = mesh.triangles[pairs[:, 0]], mesh.triangles[pairs[:, 1]]
    shared = (one[:, 0] == other[:, 0]) & (one[:, 2] == other[:, 1])  # as the rule cuts
    pairs, one, other = pairs[shared], one[shared], other[shared]
    p = mesh.positions.astype(np.float64)
    cut, across = (((p[a] - p[b]) ** 2).sum(axis=1) for a, b in ((one[:, 0], one[:, 2]), (one[:, 1], other[:, 2])))
    tied = np.abs(cut - across) <= TIE * np.maximum(cut, across)
    pairs = pairs[tied]
    normals = with_normals(mesh).normals
    assert normals is not None
    corners = normals.at_corners().astype(np.float64)
    along = corners[pairs[:, 0], 0] + corners[pairs[:, 0], 2]
    beside = corners[pairs[:, 0], 1] + corners[pairs[:, 1], 2]
    sizes = np.linalg.norm(along, axis=1) * np.linalg.norm(beside, axis=1)
    cosine = np.einsum("qc,qc->q", along, beside) / np.maximum(sizes, 1e-30)
    return pairs, np.degrees(np.arccos(np.clip(cosine, -1, 1)))
