"""Pieces far from the origin, very small or very large, are taken nearer; their pictures are those of the piece at it."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.checks import check
from inkwell_cast.core.checks.apply_remedy import apply
from inkwell_cast.core.formats import read_mesh, write_mesh
from inkwell_cast.core.mesh.binary_message import read_packed, write_packed
from inkwell_cast.core.mesh.mesh import NO_OFFSET, merge, positions_in_file
from inkwell_cast.core.piece.near_origin import as_the_others, box_in_file, near_origin
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Accepted, Heal, Pocket, Stroke
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import torus

SIZE = float(np.linalg.norm([5.4, 5.4, 1.4]))
MAPS = ["normal", "normal_object", "occlusion", "height", "position", "curvature"]
RECIPE = Recipe(
    sheet=Sheet(width=48, height=48, samples=4), output=Output(maps=MAPS), occlusion=Occlusion(rays=4, noise=0)
)
MESHES = torus(20, 10, name="ring_low"), torus(80, 40, name="ring_high")


def written(folder, scale=1.0, away=0.0):
    """The ring as OBJ files of 64-bit numbers, scaled and moved."""
    paths = []
    for mesh in MESHES:
        path = folder / f"{mesh.name}.obj"
        write_mesh(path, mesh)
        lines = path.read_text().splitlines()
        for n, line in enumerate(lines):
            word, *numbers = line.split()
            if word == "v":
                places = np.array(numbers[:3], np.float64) * scale + away * scale * SIZE * np.array([1, -0.5, 0.3])
                lines[n] = " ".join(["v", *(repr(float(at)) for at in places)])
        path.write_text("\n".join(lines) + "\n")
        paths.append(path)
    return paths


def pictures(folder, scale=1.0, away=0.0):
    folder.mkdir()
    low, high = map(read_mesh, written(folder, scale, away))
    meshes = BakeMeshes([low], [high])
    images = bake(near_origin(RECIPE, meshes), meshes).images
    return {key: image.astype(np.int32) for key, image in images.items()}


@pytest.fixture(scope="module")
def plain(tmp_path_factory):
    return pictures(tmp_path_factory.mktemp("plain") / "ring")


@pytest.mark.parametrize("power", [-66, -40, -30, -7, 9, 40, 60])
def test_a_power_of_two_changes_no_byte(plain, tmp_path, power):
    for key, image in pictures(tmp_path / "ring", 2.0**power).items():
        np.testing.assert_array_equal(image, plain[key], err_msg=key)


@pytest.mark.parametrize(
    ("scale", "away"), [(1e-20, 0), (1e-12, 0), (100, 0), (1e12, 0), (1, 100), (1, 1e4), (1, 1e6), (1e-3, -1e6)]
)
def test_other_scales_and_places_change_no_texel_by_more_than_one_step(plain, tmp_path, scale, away):
    for key, image in pictures(tmp_path / "ring", scale, away).items():
        apart = np.abs(image - plain[key])
        assert (apart > 1).mean() < 0.002, key  # a ray in thousands meets an edge on its other side
        assert apart.mean() < 0.05, key


@pytest.mark.parametrize("suffix", [".obj", ".ply", ".glb"])
def test_a_mesh_far_off_is_written_and_read_without_a_loss(tmp_path, suffix):
    mesh = replace(MESHES[0], origin=(3e6, -2e7, 1.0))
    write_mesh(tmp_path / f"a{suffix}", mesh)
    again = read_mesh(tmp_path / f"a{suffix}")
    assert again.origin != NO_OFFSET
    exact, found = (positions_in_file(each)[each.triangles] for each in (mesh, again))
    np.testing.assert_allclose(found, exact, atol=4e-6 if suffix != ".obj" else 1e-6)
    write_packed(tmp_path / "kept", again)
    assert read_packed(tmp_path / "kept").origin == again.origin


def test_a_piece_with_a_part_near_the_origin_is_left_where_it_is():
    near, far = (replace(mesh, origin=(at, 0.0, 0.0)) for mesh, at in zip(MESHES, (0.0, 1e5), strict=True))
    assert near_origin(RECIPE, BakeMeshes([near], [far])) == RECIPE


def test_pockets_strokes_and_mends_go_with_the_piece():
    meshes = BakeMeshes(*([replace(mesh, origin=(1024.0, 0.0, 0.0))] for mesh in MESHES))
    recipe = Recipe(
        pockets=[Pocket(centre=(1025.0, 2.0, 3.0), radius=7)],
        nudges=[Stroke(kind="out", points=[(1026.0, 0, 0)], radius=1, amount=0.5)],
        mends=[Mend(heals=[Heal(centre=(1027.0, 0, 0), radius=2)])],
        accepted=[Accepted(cause="leaning", centre=(1028.0, 0, 0), radius=2)],
    )
    taken = near_origin(recipe, meshes)
    moved = taken.file("ring_low").move[0]
    assert abs(1024 + moved) < 8
    assert taken.pockets[0].centre == (1025 + moved, 2, 3)
    assert taken.nudges[0].points == [(1026 + moved, 0, 0)]
    assert taken.mends[0].heals[0].centre[0] == 1027 + moved
    assert taken.accepted[0].centre[0] == 1028 + moved
    small = BakeMeshes(*([replace(mesh, positions=mesh.positions * np.float32(2.0**-30))] for mesh in MESHES))
    stroke = Stroke(kind="out", points=[(0, 0, 0)], radius=2.0**-31, amount=2.0**-32)
    scaled = near_origin(Recipe(pockets=[Pocket(radius=7)], nudges=[stroke]), small)
    assert scaled.file("ring_low").scale == 2.0**28
    assert (scaled.nudges[0].radius, scaled.nudges[0].amount) == (0.125, 0.0625)
    assert scaled.pockets[0].radius == 7  # in percent


def test_a_file_that_comes_later_is_taken_as_the_others_are():
    meshes = [replace(mesh, origin=(1e6, 0.0, 0.0)) for mesh in MESHES]
    recipe = near_origin(Recipe(), BakeMeshes([meshes[0]], []))
    boxes = {"ring_low": box_in_file(meshes[0])}
    later = as_the_others(recipe, "ring_high", box_in_file(meshes[1]), boxes)
    assert later.file("ring_high").move == recipe.file("ring_low").move
    assert as_the_others(recipe, "ring_high", box_in_file(MESHES[1]), boxes) == recipe  # it lies near as it is


@pytest.mark.parametrize(
    ("away", "scale", "severity", "title"),
    [
        (2e4, 1.0, "warning", "Far from the origin"),
        (1e7, 1.0, "blocking", "Far from the origin"),
        (0.0, 2.0**-40, "blocking", "Too small"),
        (0.0, 2.0**50, "blocking", "Too large"),
    ],
)
def test_what_was_not_taken_nearer_is_told_refused_and_cured_by_one_click(away, scale, severity, title):
    meshes = BakeMeshes(
        *(
            [replace(m, positions=m.positions * np.float32(scale), origin=(away * SIZE * scale, 0.0, 0.0))]
            for m in MESHES
        )
    )
    finding = next(f for f in check(RECIPE, meshes) if f.check == "far")
    assert (finding.severity, finding.title) == (severity, title)
    if severity == "blocking":
        with pytest.raises(InputProblem, match=r"times its size|units large"):
            bake(RECIPE, meshes)
    cured = apply(RECIPE, finding.fix)
    assert [f.severity for f in check(cured, meshes) if f.check == "far"] in ([], ["note"])
    assert bake(cured, meshes).cast.missed == 0


def test_parts_of_one_origin_keep_it_when_they_are_joined():
    assert merge([replace(mesh, origin=(5.0, 0.0, 0.0)) for mesh in MESHES], "both").origin == (5.0, 0.0, 0.0)
