"""Open borders. A sculpt that is open lets rays see its inside; a low may be open where it is never seen."""

from collections.abc import Iterator

from .finding import Finding, Inspected, plural

KEY = "borders"
TITLE = "Open borders"


def find(piece: Inspected) -> Iterator[Finding]:
    for subject in piece.all:
        if subject.role == "float":  # floating detail has no underside
            continue
        loose = subject.edges.open
        count = int(loose.sum())
        if count:
            low = subject.on_low
            harm = (
                "Rays that pass the border strike nothing." if low else "Rays near it may reach the inside or nothing."
            )
            yield Finding(
                KEY,
                "note",
                "Open low" if low else "Open sculpt",
                subject.part.key,
                count,
                f"{subject.part.name} is open along {plural(count, 'edge')}. {harm}",
                "Close the holes, if they can be seen.",
                marks=subject.marks(loose),
            )
