"""What a file may become when it is read, asked before memory is taken.

Some formats let a small file grow without end: nodes that use each other, primitives that share one array, counts that
nothing stands behind. Every reader tells its budget what it is about to make.
"""

import time
from dataclasses import dataclass, field

import numpy as np

from ..base.array_types import F64, AnyArray
from ..base.errors import Cancelled, InputProblem
from ..base.free_memory import free
from ..base.progress import Cancel

MOST_INSTANCES = 100_000
MOST_VERTICES = MOST_FACES = 120_000_000
SMALL = 4_000_000  # vertices, or faces, that any file may become
EACH_BYTE = 1.0  # of the file: vertices, or faces, that it may become beyond that
VERTEX_BYTES, FACE_BYTES = 60, 60  # what one takes with its layers
SPARE = 0.8  # of the memory that is free may be used
MOST_SECONDS = 900.0


@dataclass(slots=True)
class Budget:
    """Counts what the reader of one file makes of it; `size` are the bytes of the file and of what lies beside it.

    `origin` (3,) is what the reader takes off the positions, in 64 bits, before it rounds them to 32.
    """

    name: str
    size: int
    cancelled: Cancel = lambda: False
    vertices: int = 0
    faces: int = 0
    instances: int = 0
    notes: list[str] = field(default_factory=list)
    origin: F64 = field(default_factory=lambda: np.zeros(3))
    _started: float = field(default_factory=time.monotonic)

    def take(self, vertices: int = 0, faces: int = 0, instances: int = 0) -> None:
        """Say what will be made next. Raises InputProblem where that is too much, Cancelled where nobody waits."""
        self.look()
        self.vertices, self.faces, self.instances = (
            self.vertices + int(vertices),
            self.faces + int(faces),
            self.instances + int(instances),
        )
        if self.instances > MOST_INSTANCES:
            raise self.refusal(f"more than {MOST_INSTANCES:,} instances")
        for count, most, what in (
            (self.vertices, MOST_VERTICES, "vertices"),
            (self.faces, MOST_FACES, "triangles"),
        ):
            if count > min(most, SMALL + self.size * EACH_BYTE):
                raise self.refusal(f"{_rounded(count)} {what}")
        self.take_bytes(self.vertices * VERTEX_BYTES + self.faces * FACE_BYTES)

    def take_bytes(self, wanted: int) -> None:
        """Say how many bytes will be taken at once. Raises InputProblem where they are not there."""
        if wanted > SMALL * FACE_BYTES and wanted > SPARE * free():
            raise self.refusal(f"{wanted / 1e9:.1f} GB in memory, where {free() / 1e9:.1f} GB are free")

    def nearer(self, positions: AnyArray) -> AnyArray:
        """Positions (N, 3) with the origin taken off, as they are where there is none."""
        return positions.astype(np.float64) - self.origin if self.origin.any() else positions

    def placed(self, matrix: F64) -> F64:
        """A matrix (4, 4) to the file's space, to one that counts from the origin."""
        placed = matrix.copy()
        placed[:3, 3] -= self.origin
        return placed

    def look(self) -> None:
        """Raises Cancelled where nobody waits any more, InputProblem where reading takes too long."""
        if self.cancelled():
            raise Cancelled
        if time.monotonic() - self._started > MOST_SECONDS:
            raise InputProblem(
                self.name,
                f"Reading it took more than {MOST_SECONDS / 60:.0f} minutes.",
                "Export it as binary PLY or GLB.",
            )

    def note(self, words: str) -> None:
        """Something of the file that was left out or taken otherwise than it may be meant."""
        if words not in self.notes:
            self.notes.append(words)

    def refusal(self, what: str) -> InputProblem:
        return InputProblem(
            self.name, f"This file would become {what}.", "Export the mesh without instances, or in parts."
        )


def _rounded(count: int) -> str:
    return f"{count / 1e6:.0f} million" if count >= 2_000_000 else f"{count:,}"
