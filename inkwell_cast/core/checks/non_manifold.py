"""Edges that more than two faces share: no inside and outside is defined there."""

from collections.abc import Iterator

from .finding import Finding, Inspected, Severity, plural

KEY = "non_manifold"
TITLE = "Non-manifold edges"


def find(piece: Inspected) -> Iterator[Finding]:
    for subject in piece.all:
        many = subject.edges.non_manifold
        if not many.any():
            continue
        count = round(float((1 / subject.edges.uses[many]).sum()))
        severity: Severity = "warning" if subject.on_low else "note"
        yield Finding(
            KEY,
            severity,
            TITLE,
            subject.part.key,
            count,
            f"{plural(count, 'edge')} of {subject.part.name} shared by more than two faces.",
            "Delete inner faces, or split the edge.",
            marks=subject.marks(many),
        )
