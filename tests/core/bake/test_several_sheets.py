"""Pairs that do not see each other, sheets by material and tile, normals of the low, cages from file."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff.export_meshes import cage_mesh, low_mesh, sculpt_mesh
from inkwell_cast.core.mesh.mesh import Mesh, corner_positions, merge, values_at_corners
from inkwell_cast.core.mesh.normals import face_normals
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings import editing
from inkwell_cast.core.settings.files import Fix
from inkwell_cast.core.settings.low_normals import Normals
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.pairing import Pairing
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet, Size

from ...shapes import cube, grid_mesh, plane, torus

SMALL = Recipe(
    reach=Reach(unit="scene", outward=0.15, inward=0.15),
    sheet=Sheet(width=128, height=128, samples=1),
    output=Output(maps=["normal", "normal_object"], depth=16),
)


def placed(mesh: Mesh, name: str, move=(0, 0, 0), turn=None, uv=None) -> Mesh:
    """The mesh under a name, turned, moved, and with its UVs squeezed into a column `uv` of two."""
    matrix = np.eye(3) if turn is None else np.array(turn, np.float64)
    positions = (mesh.positions @ matrix.T + np.array(move)).astype(np.float32)
    normals = replace(mesh.normals, values=(mesh.normals.values @ matrix.T).astype(np.float32))
    made = replace(mesh, name=name, object_names=(name,), positions=positions, normals=normals)
    if uv is not None:
        values = mesh.uvs[0].at_corners() * np.array([0.45, 0.9], np.float32) + np.array(
            [0.02 + 0.5 * uv, 0.03], np.float32
        )
        made = replace(made, uvs=(values_at_corners(values),))
    return made


TURN = [[1, 0, 0], [0, 0, -1], [0, 1, 0]]


def chain(*pairs):
    """Two rings, each through the other's hole and touching it, or only some of them, in one file."""
    made = []
    for name, move, turn, column in (("a", (0, 0, 0), None, 0), ("b", (0.6, 0, 0), TURN, 1)):
        if name in pairs:
            made.append(placed(torus(40, 20, small=0.3), f"{name}_low", move, turn, column))
            made.append(placed(torus(200, 100, small=0.3), f"{name}_high", move, turn))
    return BakeMeshes([], [], [merge(made, "chain.glb")])


def test_interlocking_rings_bake_as_if_they_were_alone():
    far = SMALL.model_copy(update={"reach": Reach(unit="scene", outward=0.8, inward=0.15)})
    both, a, b = bake(far, chain("a", "b")), bake(far, chain("a")), bake(far, chain("b"))
    assert both.cast.missed == 0
    for key in ("normal", "normal_object"):
        np.testing.assert_array_equal(both.images[key][:, :60], a.images[key][:, :60])
        np.testing.assert_array_equal(both.images[key][:, 68:], b.images[key][:, 68:])
    together = far.model_copy(update={"pairing": Pairing(together=True)})
    assert (bake(together, chain("a", "b")).images["normal"][:, :60] != a.images["normal"][:, :60]).any()
    struck = both.cast.hit_triangle[:, :60]
    owners = {both.sculpt.keys[o] for o in np.unique(both.high.objects[struck[struck >= 0]])}
    assert owners == {"chain.glb/a_high"}


def test_reach_of_one_object_alone():
    lows = [
        grid_mesh(1, 1, lambda u, v, x=x: (u + x, v, 0 * u), n, uv=lambda u, v, x=x: (u * 0.4 + x / 10, v))
        for n, x in (("a_low", 0), ("b_low", 5))
    ]
    highs = [grid_mesh(1, 1, lambda u, v, x=x: (u + x, v, 0 * u + 0.2), n) for n, x in (("a_high", 0), ("b_high", 5))]
    recipe = editing.set_scope(SMALL, "object:b_low/b_low", {"outward": 0.3})
    result = bake(recipe, BakeMeshes([], [], [*lows, *highs]))
    assert (result.cast.struck[:, :40] == 0).all()
    assert (result.cast.struck[:, 66:110] == 1).all()
    in_pair = editing.set_scope(SMALL, "pair:a", {"outward": 0.3})
    assert (bake(in_pair, BakeMeshes([], [], [*lows, *highs])).cast.struck[:, :40] == 1).all()


def grid_uvs(mesh, move=(0.0, 0.0)):
    """UVs rounded so that moving them by a tile loses nothing."""
    uvs = np.round(mesh.uvs[0].at_corners() * 2**16) / 2**16 + np.array(move)
    return replace(mesh, uvs=(values_at_corners(uvs.astype(np.float32)),))


@pytest.mark.parametrize("move", [(1, 0), (-1, 0), (3, -2)])
def test_moving_all_uvs_by_whole_tiles_changes_no_pixel(move):
    low, high = torus(20, 10), torus(100, 50)
    results = [bake(SMALL, BakeMeshes([grid_uvs(low, m)], [high])) for m in ((0.0, 0.0), move)]
    assert (results[0].cast.covered == 1).all()
    np.testing.assert_array_equal(results[0].images["normal"], results[1].images["normal"])
    back = editing.set_file(SMALL, "torus", fixes=[Fix(kind="into_tile").model_dump()])
    fixed = assemble(back, BakeMeshes([grid_uvs(low, move)], [high])).files["torus"]
    np.testing.assert_array_equal(fixed.uvs[0].at_corners(), grid_uvs(low).uvs[0].at_corners())


def test_a_strip_over_three_tiles_wraps():
    strip = grid_mesh(1, 1, lambda u, v: (3 * u, v, 0 * u), "strip", uv=lambda u, v: (3 * u, v))
    cast = bake(SMALL, BakeMeshes([strip], [plane(size=3.0)])).cast
    assert (cast.covered == 1).all()
    assert cast.contested == 2 * 128 * 128


def sheeted():
    """Four squares: two materials, two tiles."""
    made = []
    for n, (material, tile) in enumerate(
        [("brass", (0, 0)), ("wood/oak", (0, 0)), ("brass", (1, 0)), ("wood/oak", (0, 1))]
    ):
        square = grid_mesh(
            1,
            1,
            lambda u, v, n=n: (u + 2 * n, v, 0 * u),
            f"s{n}",
            uv=lambda u, v, t=tile, n=n: (0.05 + 0.4 * u + t[0] + 0.5 * (n == 1), 0.1 + 0.8 * v + t[1]),
        )
        made.append(replace(square, material_names=(material,)))
    return merge(made, "four")


def test_sheets_by_material_and_by_tile():
    low, high = sheeted(), plane(size=9.0)
    by_material = SMALL.model_copy(
        update={
            "sheet": Sheet(width=64, height=64, samples=1, split="material"),
            "sizes": {"wood/oak": Size(width=32, height=128)},
        }
    )
    found = {s.name: s for s in bake(by_material, BakeMeshes([low], [high])).sheets}
    assert {n: s.cast.covered.shape for n, s in found.items()} == {"brass": (64, 64), "wood/oak": (128, 32)}
    assert {low.material_names[m] for m in low.materials[found["brass"].low.triangles]} == {"brass"}
    by_tile = SMALL.model_copy(update={"sheet": Sheet(width=64, height=64, samples=1, split="tile")})
    found = {s.name: s for s in bake(by_tile, BakeMeshes([low], [high])).sheets}
    assert {n: len(s.low.triangles) for n, s in found.items()} == {"1001": 4, "1002": 2, "1011": 2}
    assert all(s.cast.texels > 1000 for s in found.values())


def test_files_of_several_sheets_have_safe_names_of_their_own(tmp_path):
    recipe = SMALL.model_copy(update={"sheet": Sheet(width=32, height=32, samples=1, split="material")})
    low = replace(
        sheeted(), material_names=("a/b", "a:b", "a/b", "a:b"), materials=np.array([0, 0, 1, 1, 0, 0, 1, 1], np.int32)
    )
    manifest = save(bake(recipe, BakeMeshes([low], [plane(size=9.0)])), tmp_path)
    assert [m.file for m in manifest.maps if m.key == "normal"] == ["a_b_normal.png", "a_b_normal_2.png"]
    assert [s.name for s in manifest.sheets] == ["a/b", "a:b"]
    assert manifest.texels == sum(s.texels for s in manifest.sheets)
    assert manifest.likeness.mean < 0.1


def normals_of(mode, angle=30.0, mesh=None):
    recipe = SMALL.model_copy(update={"normals": Normals(mode=mode, angle=angle)})
    return assemble(recipe, BakeMeshes([mesh or cube()], [cube(name="high")])).low.normals.at_corners()


def test_normals_of_the_low_in_every_way():
    faces = np.repeat(face_normals(cube().positions, cube().triangles)[:, None], 3, axis=1)
    diagonal = corner_positions(cube()) / np.sqrt(0.75)
    np.testing.assert_allclose(normals_of("keep"), faces, atol=1e-6)
    np.testing.assert_allclose(normals_of("smooth"), diagonal, atol=1e-5)
    np.testing.assert_allclose(normals_of("angle"), faces, atol=1e-6)
    np.testing.assert_allclose(normals_of("angle", 100), diagonal, atol=1e-5)
    np.testing.assert_allclose(normals_of("seams"), faces, atol=1e-6)
    slab = replace(cube(), positions=cube().positions * np.array([1, 1, 0.1], np.float32))
    top = normals_of("weighted", 100, slab)[np.isclose(faces[..., 2], 1)]
    assert top[:, 2].min() > 0.98  # the large faces win
    assert normals_of("smooth", mesh=slab)[np.isclose(faces[..., 2], 1)][:, 2].max() < 0.6


def test_an_exported_cage_reads_back_to_the_same_bake():
    low, high = placed(torus(20, 10), "ring_low"), placed(torus(80, 40), "ring_high")
    assembly = assemble(SMALL, BakeMeshes([], [], [low, high]))
    cage = cage_mesh(assembly, Warm())
    assert cage.object_names == ("ring_cage",)
    again = bake(SMALL, BakeMeshes([], [], [low, high, replace(cage, name="cage.glb")]))
    assert [f.form for f in again.cage.forms] == ["points"]
    np.testing.assert_array_equal(
        again.cast.hit_triangle, bake(SMALL, BakeMeshes([], [], [low, high])).cast.hit_triangle
    )


def test_what_is_exported_is_what_is_baked():
    low, high = placed(torus(20, 10), "ring_low"), placed(torus(80, 40), "ring_high")
    assembly = assemble(SMALL, BakeMeshes([], [], [low, high]))
    np.testing.assert_array_equal(low_mesh(assembly, Warm()).positions, low.positions)
    assert low_mesh(assembly, Warm()).tangents.values.shape[1] == 4
    assert len(sculpt_mesh(assembly, Warm()).triangles) == len(high.triangles)


def test_files_are_turned_scaled_and_moved():
    low = placed(torus(20, 10), "ring_low")
    recipe = editing.set_file(SMALL, "ring_low", turn="z_to_y", scale=2.0, move=(1, 0, 0))
    found = assemble(recipe, BakeMeshes([low], [torus(80, 40)])).low
    x, y, z = low.positions.T
    np.testing.assert_allclose(found.positions, np.stack([2 * x + 1, 2 * z, -2 * y], axis=1), atol=1e-6)
    np.testing.assert_allclose(
        found.normals.at_corners()[0, 0], low.normals.at_corners()[0, 0][[0, 2, 1]] * [1, 1, -1], atol=1e-6
    )


@pytest.mark.parametrize(("scale", "shift", "split"), [(1e30, 0, "one"), (1, 1e7, "one"), (1, -5, "tile")])
def test_a_low_that_lies_on_no_sheet_is_refused_in_words(scale, shift, split):
    ring = torus(8, 4)
    uvs = values_at_corners(ring.uvs[0].at_corners() * np.float32(scale) + np.float32(shift))
    meshes = BakeMeshes([replace(ring, uvs=(uvs,))], [torus(24, 12)])
    with pytest.raises(InputProblem, match="No triangle lies on a sheet"):
        bake(Recipe(sheet=Sheet(width=16, height=16, split=split)), meshes)
