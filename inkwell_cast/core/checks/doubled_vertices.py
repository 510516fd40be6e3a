"""Vertices that nearly fall together along open borders: a crack that nobody sees and rays slip through."""

from collections.abc import Iterator

import numpy as np

from ..mesh.fixes import near_pairs
from .finding import Finding, Inspected, Remedy, plural

KEY = "doubles"
TITLE = "Doubled vertices"


def find(piece: Inspected) -> Iterator[Finding]:
    for subject in piece.all:
        rows = near_pairs(subject.mesh, subject.edges).reshape(-1)
        if len(rows):
            touched = np.zeros(len(subject.mesh.positions), bool)
            touched[rows] = True
            count = len(np.unique(rows))
            yield Finding(
                KEY,
                "warning",
                TITLE,
                subject.part.key,
                count,
                f"{plural(count, 'vertex', 'vertices')} of {subject.part.name} next to another without being joined to it: "
                "the surface is cracked there.",
                "Merge vertices by distance in the modelling program, or here.",
                Remedy("Merge doubled vertices", "merge_doubles", subject.part.file, subject.part.name),
                marks=subject.marks(touched[subject.mesh.triangles]),
            )
