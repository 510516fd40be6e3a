"""Positions, normals or UVs that are no numbers, or too large to compute with. Files with such are refused when read;
this finds them in meshes that come from Python."""

from collections.abc import Iterator

import numpy as np

from .finding import Finding, Inspected, plural

KEY = "numbers"
TITLE = "Values that are not numbers"
LARGEST = 1e18  # squares of larger ones leave float32


def find(piece: Inspected) -> Iterator[Finding]:
    for subject in piece.all:
        mesh = subject.mesh
        faces = np.zeros(len(mesh.triangles), bool)
        good = np.asarray(np.abs(mesh.positions) < LARGEST)
        if not good.all():
            faces |= ~np.asarray(good.all(axis=1))[mesh.triangles].all(axis=1)
        for layer in [mesh.normals, *mesh.uvs]:
            if layer is not None and not np.isfinite(layer.values).all():
                wrong = ~np.asarray(np.isfinite(layer.values).all(axis=1))
                faces |= (wrong[layer.corners] & (layer.corners >= 0)).any(axis=1)
        if faces.any():
            count = int(faces.sum())
            yield Finding(
                KEY,
                "blocking",
                TITLE,
                subject.part.key,
                count,
                f"{plural(count, 'triangle')} with a value that is not a number or beyond {LARGEST:g}.",
                "Delete or repair them and export again.",
            )
