"""What the reader of a file left out, or took otherwise than it may be meant."""

from collections.abc import Iterator

from .finding import Finding, Inspected

KEY = "reading"
TITLE = "As it was read"


def find(piece: Inspected) -> Iterator[Finding]:
    for name, mesh in piece.assembly.files.items():
        for note in mesh.notes:
            yield Finding(KEY, "note", TITLE, name, 1, note, "If that is not what is wanted, export it otherwise.")
