"""A piece so far from the origin, so small or so large, that numbers of 32 bits no longer hold its form."""

from collections.abc import Iterator

import numpy as np

from ..piece.near_origin import LARGEST, MOST_SIZES, SMALLEST, box_in_file, distance_of, nearer_of, size_of
from ..settings.recipe import Recipe
from .finding import Finding, Inspected, Remedy

KEY = "far"
TITLE = "Far from the origin"
TOLD = 1e4  # sizes from the origin
FEWEST = 1e3  # sizes of a move by which files are taken that is worth a word


def find(piece: Inspected) -> Iterator[Finding]:
    files = {name: mesh for name, mesh in piece.assembly.files.items() if len(mesh.positions)}
    if not files:
        return
    placed = {name: box_in_file(mesh) for name, mesh in files.items()}
    boxes = {name: np.array(box) for name, box in placed.items()}
    nearest = min(boxes, key=lambda name: distance_of(boxes[name]))
    away, size = distance_of(boxes[nearest]), max(map(size_of, boxes.values()))
    nearer = nearer_of(Recipe(), placed)
    fix = Remedy("Take it near the origin", "nearer", files=tuple(files), move=nearer.move, scale=nearer.scale)
    if away >= TOLD:
        yield Finding(
            KEY,
            "blocking" if away > MOST_SIZES else "warning",
            TITLE,
            nearest,
            1,
            f"It lies {away:,.0f} times its size from the origin, where places are held in steps of {away * 2**-24:.2g} of it.",
            "Take it near the origin here, or export it there. Pockets and mends go with it.",
            fix,
        )
    if not SMALLEST <= size <= LARGEST:
        yield Finding(
            KEY,
            "blocking",
            "Too small" if size < SMALLEST else "Too large",
            nearest,
            1,
            f"It is {size:.2g} scene units large; {SMALLEST:.0e} to {LARGEST:.0e} can be computed with.",
            "Scale its files here by a power of two, which changes no picture, or export it in other units.",
            fix,
        )
    yield from _taken(piece, size)


def _taken(piece: Inspected, size: float) -> Iterator[Finding]:
    """That files are taken nearer, where that is so."""
    settings = piece.assembly.recipe.file(next(iter(piece.assembly.files)))
    moved = float(np.abs(settings.move).max())
    if moved > FEWEST * size > 0:
        yield Finding(
            KEY,
            "note",
            "Taken nearer",
            next(iter(piece.assembly.files)),
            1,
            f"In its files it lies {moved / size:,.0f} times its size from the origin; here it is moved by "
            f"{', '.join(f'{by:,.10g}' for by in settings.move)} scene units.",
            "Nothing is to be done. The step Meshes takes the move back, at the files.",
        )
