"""Meshes that leave the product: the low as baked, a light stand-in of the sculpt, the cage in the low's topology,
and the low as its displacement moves it."""

from dataclasses import replace

import numpy as np

from .assembly import Assembly, Warm, take
from .basis import tangents_for
from .errors import InputProblem
from .fit import cage_of
from .mesh import Layer, Mesh, layer_of_corners, merge
from .normals import vertices
from .relief import displaced
from .view import stand_in


def low_mesh(assembly: Assembly, warm: Warm) -> Mesh:
    """The paired lows, triangulated as baked, with the normals and tangents that the bake uses."""
    low = _low(assembly)
    channel = assembly.recipe.sheet.channel
    if channel < len(low.uvs) and low.uvs[channel].complete:
        low = replace(low, tangents=layer_of_corners(tangents_for(low, channel, assembly.recipe.basis)))
    return replace(low, polygons=None)


def sculpt_mesh(assembly: Assembly, warm: Warm) -> Mesh:
    """The paired highs with at most about 240 thousand triangles a file."""
    names: dict[str, list[str]] = {}
    for pair in assembly.paired.pairs:
        for part in pair.giving:
            names.setdefault(part.file, []).append(part.name)
    if not names:
        raise InputProblem("The piece", "It has no paired high to export.", "Pair a high first.")
    pieces = [stand_in(take(assembly.files[file], tuple(own))) for file, own in names.items()]
    return merge(pieces, "sculpt")


def cage_mesh(assembly: Assembly, warm: Warm) -> Mesh:
    """Where rays start, over the low's own vertices, in their order, named after the low's objects.

    Pockets and nudges count at the vertices only.
    """
    low = _low(assembly)
    positions, triangles, _ = vertices(low)
    moved = positions.astype(np.float32).copy()
    moved[triangles] = positions[triangles] + cage_of(assembly, warm).corners
    suffix, end = assembly.recipe.pairing.cage, assembly.recipe.pairing.low
    names = tuple((n[: -len(end)] if n.lower().endswith(end.lower()) else n) + suffix for n in low.object_names)
    uvs = tuple(Layer(uv.values, uv.corners) for uv in low.uvs)
    return Mesh(
        "cage", moved, triangles, uvs=uvs, objects=low.objects, object_names=names, materials=low.materials,
        material_names=low.material_names, material_colors=low.material_colors,
    )  # fmt: skip


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
