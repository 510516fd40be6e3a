"""What the server remembers of a mesh file."""

import hashlib

import numpy as np

from ..core.bake.manifest import MeshFile
from ..core.mesh.mesh import NO_OFFSET, Mesh
from ..core.piece.piece import Assembly, BakeMeshes
from .messages import Loaded, PartFacts, Source


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


def mesh_files(sources: list[Source], meshes: BakeMeshes, assembly: Assembly) -> list[MeshFile]:
    """The files of a bake with their roles, for its manifest."""
    files = []
    for source, mesh in zip(sources, meshes.named, strict=True):
        roles = {role for pair in assembly.paired.pairs for role, part in pair.members if part.file == source.name}
        role = "+".join(sorted(roles)) or "alone"
        files.append(MeshFile(role=role, file=source.name, sha256=source.sha256, triangles=len(mesh.triangles)))
    return files
