"""What the server remembers of a mesh file."""

import hashlib

import numpy as np

from ..core.mesh.mesh import NO_OFFSET, Mesh
from .messages import Loaded, PartFacts


def facts_of(mesh: Mesh) -> Loaded:
    """Counts, parts, materials and size of a mesh."""
    return Loaded(
        len(mesh.triangles),
        len(mesh.positions),
        _parts(mesh),
        [n for n in mesh.material_names if n],
        len(mesh.uvs),
        mesh.diagonal,
        mesh.colors is not None,
    )


def _parts(mesh: Mesh) -> list[PartFacts]:
    """What the server remembers of every object, to pair it and to say what a reload changed."""
    parts = []
    for n, name in enumerate(mesh.object_names):
        rows = mesh.objects == n
        points = mesh.positions[mesh.triangles[rows]].reshape(-1, 3)
        digest = ""
        if mesh.uvs:
            corners = mesh.uvs[0].corners[rows]
            digest = hashlib.sha256(
                np.where(corners[..., None] < 0, -1, mesh.uvs[0].values[corners]).tobytes()
            ).hexdigest()
        box = np.stack([points.min(axis=0), points.max(axis=0)]) if len(points) else np.zeros((2, 3))
        low, high = box if mesh.origin == NO_OFFSET else box + np.array(mesh.origin)
        parts.append(PartFacts(name, int(rows.sum()), (tuple(low.tolist()), tuple(high.tolist())), digest[:16]))
    return parts
