"""Faces wound inside out, as a whole or against their neighbours. Rays pass through faces that look away."""

from collections.abc import Iterator

import numpy as np

from .finding import Finding, Inspected, Remedy, Subject, plural

KEY = "winding"
TITLE = "Winding"
CLOSED = 0.02  # share of open edges up to which a volume means something


def find(piece: Inspected) -> Iterator[Finding]:
    for subject in piece.all:
        against = subject.edges.against
        count = int(against.sum()) // 2
        if count:
            yield Finding(
                KEY, "warning", "Inconsistent winding", subject.part.key, count,
                f"Across {plural(count, 'edge')} of {subject.part.name} neighbouring faces look to opposite sides; rays "
                "pass through those that look away.", "Make the normals consistent in the modelling program.",
                marks=subject.marks(against),
            )  # fmt: skip
        elif len(subject.mesh.triangles) and subject.role != "float" and _inside_out(subject):
            everything = np.ones(len(subject.mesh.triangles), bool)
            yield Finding(
                KEY, "warning", "Inside out", subject.part.key, len(everything),
                f"All {plural(len(everything), 'face')} of {subject.part.name} look inward, so rays pass through it.",
                "Turn its faces over.",
                Remedy("Turn the faces over", "flip_winding", subject.part.file, subject.part.name),
                marks=subject.marks(everything),
            )  # fmt: skip


def _inside_out(subject: Subject) -> bool:
    """Whether a (nearly) closed part encloses a negative volume."""
    if subject.edges.open.mean() > CLOSED:
        return False
    p = subject.mesh.positions[subject.mesh.triangles].astype(np.float64)
    p -= p.reshape(-1, 3).mean(axis=0)
    volume = np.einsum("ti,ti->", p[:, 0], np.cross(p[:, 1], p[:, 2])) / 6
    return bool(volume < -1e-9 * subject.mesh.diagonal**3)
