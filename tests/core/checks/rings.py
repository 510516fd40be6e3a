"""A ring and its sculpt, either of them replaced, and what the checks find of them."""

from dataclasses import replace

import numpy as np

from inkwell_cast.core.checks import check
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import cube, torus


def ring(around=24, name="ring_low", **changes):
    return replace(torus(around, around // 2, name=name), **changes)


def found(low=None, high=None, recipe=None, others=()):
    """Findings by check for a ring and its sculpt, either of them replaced."""
    meshes = BakeMeshes([], [], [low or ring(), high or ring(96, "ring_high"), *others])
    return {f.check: f for f in check(recipe or Recipe(), meshes)}


def turned(mesh, rows=slice(None)):
    triangles = mesh.triangles.copy()
    triangles[rows] = triangles[rows, ::-1]
    return replace(mesh, triangles=triangles, normals=None, uvs=())


def with_shells(mesh, *middles):
    """A mesh with a small box at each of some places, in its own object."""
    boxes = [cube(0.2, middle) for middle in middles]
    one = merge([replace(each, normals=None, uvs=()) for each in (mesh, *boxes)], mesh.name)
    return replace(one, objects=np.zeros_like(one.objects), object_names=mesh.object_names)
