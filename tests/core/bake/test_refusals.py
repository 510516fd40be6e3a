"""What stops a bake is told by part."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake import refusals
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.checks import check
from inkwell_cast.core.mesh.mesh import CornerValues, Mesh
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import plane, torus


def test_triangles_without_area_are_counted():
    points = np.array([[0, 0, 0], [1, 1, 1], [2, 2, 2], [0, 1, 0]], np.float32)
    mesh = Mesh("some", points, np.array([[0, 1, 2], [0, 1, 3], [1, 1, 3]], np.int32))
    assert refusals.zero_area(mesh) == 2
    refusals.refuse_empty(mesh)


def test_a_low_with_half_its_uvs_is_refused_by_part():
    corners = np.array([[0, 1, 2], [-1, -1, -1]], np.int32)
    mesh = Mesh(
        "two.obj",
        plane().positions,
        plane().triangles,
        uvs=(CornerValues(np.zeros((3, 2), np.float32), corners),),
        objects=np.array([0, 1], np.int32),
        object_names=("lid", "base"),
    )
    with pytest.raises(InputProblem, match=r"two\.obj, base: 1 triangles have no UVs"):
        refusals.refuse_unusable(assemble(Recipe(), BakeMeshes([mesh], [plane()])))


def test_an_object_without_faces_is_told_and_breaks_no_check():
    mesh = replace(torus(12, 6), name="ring.glb", object_names=("ring_low", "gone_high"))
    found = check(Recipe(), BakeMeshes([], [], [mesh, replace(torus(40, 20, name="ring_high"), name="ring_high.ply")]))
    assert any("gone_high" in finding.part for finding in found)
