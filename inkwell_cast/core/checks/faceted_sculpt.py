"""Sculpts that are shaded flat: every face would show in the map."""

from collections.abc import Iterator

import numpy as np

from ..mesh.adjacency import bends, differs_across
from .finding import Finding, Inspected, Remedy, plural

KEY = "faceted"
TITLE = "Faceted sculpt"
FEWEST_TRIANGLES = 200
MOSTLY = 0.6
LEANING = 0.5, 40.0  # degrees between faces: flatter is flat ground, steeper may be a real edge
SHARP = 60.0  # degrees: what bends by more is an edge, unless one says otherwise
HARD = float(2 * np.sin(np.radians(0.4) / 2))


def find(piece: Inspected) -> Iterator[Finding]:
    for high in piece.highs:
        mesh = high.mesh
        if len(mesh.triangles) < FEWEST_TRIANGLES or mesh.normals is None:
            continue
        if np.array_equal(mesh.normals.corners, mesh.triangles) and len(mesh.normals.values) < 2 * len(mesh.triangles):
            continue  # one normal a vertex, shared by its faces
        bend = bends(mesh, high.edges)
        rounded = (bend > LEANING[0]) & (bend < LEANING[1])
        hard = differs_across(mesh.normals.at_corners(), high.edges, HARD) & rounded
        share = hard.sum() / max(int(rounded.sum()), 1)
        if share > MOSTLY:
            count, sharp = int(hard.sum()) // 2, int((bend > SHARP).sum()) // 2
            yield Finding(
                KEY,
                "warning",
                TITLE,
                high.part.key,
                count,
                f"{share:.0%} of the soft edges of {high.part.name} are shaded hard: its faces will show in the map.",
                "Export the sculpt with smooth normals, or treat it as smooth: edges that bend by more than an angle stay "
                f"hard, {plural(sharp, 'edge') if sharp else 'none'} beyond {SHARP:.0f}°.",
                Remedy("Treat as smooth", "smooth", high.part.file, high.part.name, angle=SHARP),
                marks=high.marks(hard),
            )
