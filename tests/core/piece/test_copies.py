"""Copies that share UVs with what has a sculpt: found, named, and left out of whatever judges."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.checks import check
from inkwell_cast.core.mesh.mesh import CornerValues, merge
from inkwell_cast.core.piece import assembly
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import cube, torus

SMALL = Recipe(sheet=Sheet(width=64, height=64, samples=1), output=Output(maps=["normal"]))


def moved(mesh, by, tiles=0, flip=False):
    """A mesh elsewhere, with its UVs in another tile; or mirrored through x = 0."""
    turn = np.array([-1 if flip else 1, 1, 1], np.float32)
    uv = mesh.uvs[0]
    triangles = mesh.triangles[:, ::-1] if flip else mesh.triangles
    corners = uv.corners[:, ::-1] if flip else uv.corners
    normals = mesh.normals and replace(
        mesh.normals, values=mesh.normals.values * turn, corners=mesh.normals.corners[:, :: -1 if flip else 1]
    )
    return replace(
        mesh,
        positions=(mesh.positions * turn + np.array(by, np.float32)).astype(np.float32),
        triangles=np.ascontiguousarray(triangles),
        uvs=(CornerValues(uv.values + np.float32(tiles), np.ascontiguousarray(corners)),),
        normals=normals,
    )


def links(first_has_it=True):
    """Four cubes in a row on the same UVs of four tiles; one of them has a sculpt, and they are one object."""
    link = cube()
    row = [moved(link, (1.5 * n, 0, 0), n) for n in range(4)]
    low = merge([replace(each, object_names=("links",)) for each in row], "links_low")
    return replace(low, object_names=("links",), objects=np.zeros(48, np.int32)), moved(
        link, (0 if first_has_it else 4.5, 0, 0)
    )


@pytest.mark.parametrize(("first_has_it", "own"), [(True, 0), (False, 3)])
def test_links_without_a_sculpt_are_copies_of_the_one_that_has_it(first_has_it, own):
    low, high = links(first_has_it)
    copies = assemble(SMALL, BakeMeshes([low], [high])).copies.reshape(4, 12)
    assert (copies[own] == -1).all()
    others = np.delete(copies, own, axis=0)
    assert (others == others[:, :1]).all()
    assert sorted(others[:, 0].tolist()) == [0, 1, 2]


def test_a_mirrored_half_is_a_copy_only_where_its_sculpt_is_missing():
    half = moved(torus(20, 10), (4, 0, 0))
    low, high = merge([half, moved(half, (0, 0, 0), flip=True)], "low"), moved(torus(60, 30), (4, 0, 0))
    both = merge([high, moved(high, (0, 0, 0), flip=True)], "high")
    assert (assemble(SMALL, BakeMeshes([low], [both])).copies == -1).all()
    assert (assemble(SMALL, BakeMeshes([low], [high])).copies >= 0).tolist() == [False] * 400 + [True] * 400


def test_copies_are_told_once_and_not_as_shared_or_outside_the_tile_too():
    low, high = links()
    told = [finding.check for finding in check(SMALL, BakeMeshes([low], [high]))]
    assert told.count("copies") == 1
    assert not {"overlaps", "tiles"} & set(told)


def test_what_merely_strays_and_what_merely_overlaps_is_no_copy():
    low, high = links()
    alone = replace(low, uvs=(CornerValues(low.uvs[0].values / 5, low.uvs[0].corners),))  # places of their own
    assert (assemble(SMALL, BakeMeshes([alone], [high])).copies == -1).all()
    doubled = merge([cube(), cube()], "low")
    assert (assemble(SMALL, BakeMeshes([doubled], [cube()])).copies == -1).all()


def test_copies_take_no_part_in_what_judges():
    """The bake of four links is judged as that of the one with a sculpt; and nothing is said to stray or lie apart."""
    low, high = links()
    alone = bake(SMALL, BakeMeshes([cube()], [high]))
    made = bake(SMALL, BakeMeshes([low], [high]))
    seen, only = made.judgement().seen.whole, alone.judgement().seen.whole
    assert seen.outline == pytest.approx(only.outline, abs=0.01)
    assert seen.mean == pytest.approx(only.mean, abs=0.05)
    assert made.coverage().gaps.missed == 0
    findings = {finding.check: finding for finding in check(SMALL, BakeMeshes([low], [high]))}
    assert not {"stray", "place"} & findings.keys()
    assert "3 copies in links" in findings["copies"].what


@pytest.mark.parametrize("broken", ["low", "high", "uvs"])
def test_numbers_that_are_none_are_left_to_the_checks(broken):
    low, high = links()
    if broken == "uvs":
        values = low.uvs[0].values.copy()
        values[5] = np.nan
        low = replace(low, uvs=(replace(low.uvs[0], values=values),))
    else:
        mesh = low if broken == "low" else high
        positions = mesh.positions.copy()
        positions[3] = np.nan
        low, high = (replace(one, positions=positions) if one is mesh else one for one in (low, high))
    meshes = BakeMeshes([low], [high])
    assert (assemble(SMALL, meshes).copies == -1).all()
    assert check(SMALL, meshes)[0].severity == "blocking"


def test_a_change_of_reach_or_normals_looks_for_no_copies_anew(monkeypatch):
    meshes, warm = BakeMeshes([links()[0]], [links()[1]]), Warm()
    before = assemble(SMALL, meshes, warm).copies
    monkeypatch.setattr(assembly, "copies_of", lambda *given: pytest.fail("they are known"))
    for change in ({"levels": {"pair:everything": {"outward": 3.0}}}, {"normals": {"mode": "smooth"}}):
        again = assemble(Recipe.model_validate(SMALL.model_dump() | change), meshes, warm)
        assert again.copies is before
