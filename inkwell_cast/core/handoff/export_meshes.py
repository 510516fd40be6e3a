"""Meshes that leave the product: the low as baked, a light stand-in of the sculpt, the cage in the low's topology,
and the low as its displacement moves it."""

from dataclasses import replace

import numpy as np

from ..base.errors import InputProblem
from ..cage.fit import cage_of
from ..maps.displacement import displaced
from ..mesh.mesh import CornerValues, Mesh, merge, values_at_corners
from ..mesh.normals import vertices
from ..piece.piece import Assembly, take
from ..piece.scene_cache import Warm
from ..review.display_meshes import stand_in
from ..tangent.frame import tangents_for


def low_mesh(assembly: Assembly, warm: Warm) -> Mesh:
    """The paired lows, triangulated as baked, with the normals and tangents that the bake uses."""
    low = _low(assembly)
    channel = assembly.recipe.sheet.channel
    if channel < len(low.uvs) and low.uvs[channel].complete:
        low = replace(low, tangents=values_at_corners(tangents_for(low, channel, assembly.recipe.basis)))
    return replace(low, polygons=None)


def sculpt_mesh(assembly: Assembly, warm: Warm) -> Mesh:
    """The paired highs with at most about 240 thousand triangles a file."""
    names: dict[str, list[str]] = {}
    for pair in assembly.paired.pairs:
        for part in pair.giving:
            names.setdefault(part.file, []).append(part.name)
    if not names:
        raise InputProblem("The piece", "It has no paired high to export.", "Pair a high first.")
    pieces = [stand_in(take(assembly.files[file], tuple(objects))) for file, objects in names.items()]
    return merge(pieces, "sculpt")


def cage_mesh(assembly: Assembly, warm: Warm) -> Mesh:
    """Where rays start, over the low's own vertices, in their order, named after the low's objects.

    Pockets and nudges count at the vertices only.
    """
    low = _low(assembly)
    positions, triangles, _ = vertices(low)
    moved = positions.astype(np.float32).copy()
    moved[triangles] = positions[triangles] + cage_of(assembly, warm).corners
    pairing = assembly.recipe.pairing
    names = tuple(_without(name, pairing.suffixes("low")) + pairing.first("cage") for name in low.object_names)
    uvs = tuple(CornerValues(uv.values, uv.corners) for uv in low.uvs)
    return Mesh(
        "cage",
        moved,
        triangles,
        uvs=uvs,
        objects=low.objects,
        object_names=names,
        materials=low.materials,
        material_names=low.material_names,
        material_colors=low.material_colors,
    )


def _without(name: str, ends: list[str]) -> str:
    """A name without the suffix that it ends with."""
    end = next((end for end in ends if name.lower().endswith(end)), "")
    return name[: len(name) - len(end)]


def displaced_mesh(assembly: Assembly, warm: Warm) -> Mesh:
    """The low moved by its displacement, with the normals and tangents that the other maps were baked with."""
    if "displacement" not in assembly.recipe.output.maps:
        raise InputProblem("The piece", "It has no displacement.", "Choose the displacement map first.")
    return low_mesh(displaced(assembly, warm), warm)


def _low(assembly: Assembly) -> Mesh:
    if not len(assembly.low.triangles):
        raise InputProblem("The piece", "It has no paired low to export.", "Pair a low with a high first.")
    return assembly.low


EXPORTS = {"low": low_mesh, "sculpt": sculpt_mesh, "cage": cage_mesh, "displaced": displaced_mesh}
