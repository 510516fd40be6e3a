import json
import os

import cv2
import numpy as np
import pytest

from inkwell_cast.core.bake import preview
from inkwell_cast.core.bake.manifest import Manifest
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.bake.stages import SAVING, STAGES
from inkwell_cast.core.base.errors import Cancelled, InputProblem
from inkwell_cast.core.images import png
from inkwell_cast.core.maps import REGISTRY
from inkwell_cast.core.mesh.mesh import Mesh, corner_positions
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.review import likeness
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.limits import HeldTo, Limits
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.uv.rasterise import texel_barycentrics

from ...shapes import cube, grid_mesh, plane, torus, torus_normals
from ..bakes import baked

BOTH = ["normal", "normal_object"]


def small(side: int = 64, samples: int = 1, depth: int = 16, green: str = "up", padding=2, maps=BOTH) -> Recipe:
    return Recipe(
        reach=Reach(unit="percent", outward=4, inward=4),
        sheet=Sheet(width=side, height=side, samples=samples, padding=padding),
        basis=Basis(green=green),
        output=Output(maps=maps, depth=depth),
    )


@pytest.mark.deep
def test_torus_on_a_coarse_torus():
    """The normals that the written 16-bit map gives back, against the analytic ones where each texel's ray struck."""
    low, high = torus(32, 16), torus(600, 300)
    result = bake(small(512, maps=["normal"]), BakeMeshes([low], [high]))
    back = REGISTRY["normal"].read_back(png.dequantise(result.images["normal"]), result.sheets[0].context)
    on_low = places_on_low(result)
    struck = on_low + directions(result) * result.cast.height[..., None]
    cosines = (back * torus_normals(struck)).sum(axis=-1)
    angle = np.degrees(np.arccos(np.clip(cosines, -1, 1)))
    assert result.cast.missed == 0
    assert angle.mean() < 0.5
    assert np.percentile(angle, 99) < 1.0


def weights(result) -> np.ndarray:
    sheet, cast = result.low.grid.record, result.cast
    out = np.zeros((*cast.low_triangle.shape, 3))
    for y, x in np.ndindex(cast.low_triangle.shape):
        if cast.low_triangle[y, x] >= 0:
            out[y, x] = texel_barycentrics(cast.low_triangle[y, x], x, y, cast.sample[y, x], sheet)
    return out


def places_on_low(result) -> np.ndarray:
    return (corner_positions(result.low.mesh)[result.cast.low_triangle] * weights(result)[..., None]).sum(axis=2)


def directions(result) -> np.ndarray:
    from inkwell_cast.core.mesh.normals import averaged

    d = (averaged(result.low.mesh)[result.cast.low_triangle] * weights(result)[..., None]).sum(axis=2)
    return d / np.linalg.norm(d, axis=-1, keepdims=True)


@pytest.mark.parametrize(("depth", "mean", "p95"), [(8, 0.2, 0.35), (16, 0.001, 0.002)])
@pytest.mark.parametrize("key", BOTH)
def test_likeness_of_a_clean_bake_is_the_floor_of_its_depth(key, depth, mean, p95, tmp_path):
    result = bake(small(256, 4, depth, maps=[key]), BakeMeshes([torus(24, 12)], [torus(300, 150)]))
    found = save(result, tmp_path).likeness
    assert 0 < found.mean < mean
    assert found.p95 < p95
    assert found.under_1 == 1.0


def test_likeness_measures_the_angle_of_a_wrong_picture(tmp_path):
    leaning = grid_mesh(1, 1, lambda u, v: (u, v, np.tan(np.radians(3)) * (u - 0.5)), "leaning by 3 degrees")
    result = bake(small(128, maps=["normal"]), BakeMeshes([plane()], [leaning]))
    flat = np.full((128, 128, 3), 32768, np.uint16)
    flat[..., 2] = 65535
    png.write(tmp_path / "flat.png", flat)
    found = result.likeness_of(tmp_path / "flat.png", "normal")
    assert found.mean == pytest.approx(3, abs=0.01)
    assert (found.under_1, found.under_5) == (0, 1)


def test_the_likeness_is_told_by_pair_and_kept_as_a_picture(tmp_path):
    def at(mesh, x, name):
        return Mesh(name, mesh.positions + np.float32([x, 0, 0]), mesh.triangles, uvs=mesh.uvs)

    narrow = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u), uv=lambda u, v: (u * 0.4, v))
    right = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u), uv=lambda u, v: (u * 0.4 + 0.6, v))
    parts = [at(narrow, 0, "a_low"), at(right, 3, "b_low"), at(plane(), 0, "a_high"), at(plane(), 3.5, "b_high")]
    manifest = save(bake(small(64, maps=["normal"]), BakeMeshes([], [], parts)), tmp_path, previews=tmp_path)
    assert [pair.likeness.under_1 for pair in manifest.pairs] == [1, 1]
    steps = cv2.imread(str(tmp_path / manifest.sheets[0].heat), cv2.IMREAD_UNCHANGED)
    assert (steps[:, :24] < 100).all()
    assert (steps[:, 32] == likeness.OFF).all()
    assert (steps[:, 40:48] == likeness.MISSED).all()  # the second sculpt lies beside that half of its low
    colors = likeness.heat(np.array([[0, likeness.TOP * 5 // 180, likeness.OFF, likeness.MISSED]], np.uint16))
    assert colors[0, 0].tolist() == [243, 238, 227]
    np.testing.assert_allclose(colors[0, 1], [221, 130, 52], atol=1)
    assert colors[0, 2].tolist() != colors[0, 3].tolist()
    assert likeness.degrees(likeness.TOP // 2) == pytest.approx(90, abs=0.01)


def test_green_down_is_the_mirror_of_green_up_and_reads_back_the_same():
    meshes = BakeMeshes([torus(24, 12)], [torus(300, 150)])
    up, down = (bake(small(green=g), meshes).images["normal"].astype(int) for g in ("up", "down"))
    assert np.abs(up[..., 1] + down[..., 1] - 65535).max() <= 1
    np.testing.assert_array_equal(up[..., [0, 2]], down[..., [0, 2]])


def test_a_flat_low_on_itself_is_straight_blue():
    image = bake(small(depth=8, maps=["normal"]), BakeMeshes([plane()], [plane()])).images["normal"]
    assert np.unique(image.reshape(-1, 3), axis=0).tolist() == [[128, 128, 255]]


def test_missed_texels_keep_the_normal_of_the_low_and_are_counted(tmp_path):
    half = grid_mesh(1, 1, lambda u, v: (u * 0.5, v, 0 * u), "half")
    result = bake(small(), BakeMeshes([plane()], [half]))
    manifest = save(result, tmp_path)
    assert manifest.missed_texels == 64 * 32
    np.testing.assert_allclose(
        png.dequantise(result.images["normal_object"])[:, 40:], np.broadcast_to([0.5, 0.5, 1], (64, 24, 3)), atol=1e-4
    )


def test_padding_and_background():
    island = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u), uv=lambda u, v: (0.25 + u / 2, 0.25 + v / 2))
    leaning = grid_mesh(1, 1, lambda u, v: (u, v, 0.02 * u), "leaning")
    pictures = {
        p: bake(small(padding=p, depth=8, maps=["normal"]), BakeMeshes([island], [leaning])).images["normal"]
        for p in (0, 3, "fill")
    }
    inside, flat = pictures[0][32, 32].tolist(), [128, 128, 255]
    assert pictures[0][32, 15].tolist() == flat
    assert pictures[3][32, 13].tolist() == inside
    assert pictures[3][32, 12].tolist() == flat
    assert (pictures["fill"] == inside).all()


def test_sheets_that_are_not_square():
    recipe = Recipe(sheet=Sheet(width=16, height=130, samples=1), output=Output(maps=["normal"]))
    assert bake(recipe, BakeMeshes([plane()], [plane()])).images["normal"].shape == (130, 16, 3)


def test_several_lows_and_highs_in_one_bake():
    left = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u), "left", uv=lambda u, v: (u / 2, v))
    right = grid_mesh(1, 1, lambda u, v: (u + 3, v, 0 * u), "right", uv=lambda u, v: (0.5 + u / 2, v))
    highs = [grid_mesh(1, 1, lambda u, v, x=x: (u + x, v, 0 * u + 0.01), f"high {x}") for x in (0, 3)]
    result = bake(small(), BakeMeshes([left, right], highs))
    assert result.cast.missed == 0
    np.testing.assert_allclose(result.cast.height, 0.01, atol=1e-6)
    assert result.high.object_of(int(result.cast.hit_triangle[5, 60])) == "high 3"


def test_progress_rises_to_one_through_every_stage():
    told = []
    bake(small(), BakeMeshes([plane()], [plane()]), lambda stage, share: told.append((stage, share)))
    shares = [share for _, share in told]
    assert shares == sorted(shares)
    assert shares[-1] == pytest.approx(1)
    assert {stage.partition(" ")[0] for stage, _ in told} == set(STAGES)
    assert "casting rays" in dict(told)


def test_a_bake_is_told_and_timed_by_pair():
    told, names = [], ["left", "right"]
    lows = [
        grid_mesh(1, 1, lambda u, v, n=n: (u + 3 * n, v, 0 * u), f"{name}_low", uv=lambda u, v, n=n: (n / 2 + u / 2, v))
        for n, name in enumerate(names)
    ]
    highs = [grid_mesh(1, 1, lambda u, v, n=n: (u + 3 * n, v, 0 * u), f"{names[n]}_high") for n in (0, 1)]
    recipe = small(128, 4, maps=["occlusion"])
    made = bake(recipe, BakeMeshes([], [], [*lows, *highs]), lambda stage, share: told.append(stage))
    heard = [stage for stage in dict.fromkeys(told) if "rays" in stage]
    assert heard in (
        ["casting rays · left", "casting rays · right"],
        ["casting rays · right"],
    )  # a fast one is one step
    assert set(made.spent_on) == {0, 1}
    layers = sum(spent for name, spent in made.seconds.items() if name.startswith("casting "))
    assert 0 < sum(made.spent_on.values()) <= layers + 1e-3  # rounded


def test_a_map_can_be_looked_at_while_it_is_made(monkeypatch):
    monkeypatch.setattr(preview, "EVERY", 0)
    monkeypatch.setattr(preview, "COST", 0)
    seen = []
    result = bake(
        small(128, maps=["normal", "position"]),
        BakeMeshes([plane()], [plane(4, 0.01)]),
        peek=lambda key, sheet, image: seen.append((key, sheet, image)),
    )
    assert [key for key, _, _ in seen] == sorted(key for key, _, _ in seen)  # one after the other
    last = {key: image for key, _, image in seen}
    assert set(last) == {"normal", "position"}
    assert last["normal"].shape == (128, 128, 3)
    whole = np.abs(last["position"][4:-4, 4:-4].astype(int) - result.images["position"][4:-4, 4:-4] // 257)
    assert whole.max() <= 1


def test_a_cancel_ends_the_bake():
    asked = []

    def cancel():
        asked.append(1)
        return len(asked) > 6

    with pytest.raises(Cancelled):
        bake(small(512, 16), BakeMeshes([plane()], [plane()]), cancel=cancel)


def test_a_warm_scene_is_used_again_and_only_for_the_same_meshes():
    warm, high = Warm(), torus(60, 30)
    low, other = plane(), torus(60, 30)
    first, again, changed = (
        warm.sculpt(assemble(Recipe(), BakeMeshes([low], [mesh]), warm)) for mesh in (high, high, other)
    )
    assert again is first
    assert changed is not first


def test_saving_writes_pictures_and_a_manifest(tmp_path):
    result = bake(small(depth=8), BakeMeshes([plane()], [plane()]))
    save(result, tmp_path / "out")
    assert sorted(os.listdir(tmp_path / "out")) == ["manifest.json", "normal.png", "normal_object.png"]
    manifest = json.loads((tmp_path / "out" / "manifest.json").read_text())
    assert manifest["coverage"] == 1
    assert set(manifest["seconds"]) == {*STAGES, "casting rays", "writing", "rounding", "likeness", "coverage", "flaws"}
    assert Recipe.model_validate(manifest["recipe"]) == result.recipe
    np.testing.assert_array_equal(png.read(tmp_path / "out" / "normal.png"), result.images["normal"])


def test_maps_are_saved_without_being_judged_or_as_a_proof_where_that_is_asked_for(tmp_path):
    high, kept = torus(160, 80, small=0.72, name="high"), {}
    for judge in ("full", "proof", "none"):
        recipe = small(600, maps=["normal"]).model_copy(update={"limits": Limits(judge=judge)})
        save(bake(recipe, BakeMeshes([torus(48, 24)], [high])), tmp_path / judge)
        kept[judge] = json.loads((tmp_path / judge / "manifest.json").read_text())
        assert kept[judge]["recipe"]["limits"]["judge"] == judge
    assert len({(tmp_path / judge / "normal.png").read_bytes() for judge in kept}) == 1  # the maps are the same
    full, proof = (kept[judge]["seen"]["bake"] for judge in ("full", "proof"))
    assert proof["pixels"] < 0.8 * full["pixels"]
    assert proof["mean"] == pytest.approx(full["mean"], rel=0.1)
    none = kept["none"]
    assert [none[name] for name in ("seen", "flaws", "to_mend", "coverage_of_sculpt")] == [None] * 4
    assert not set(none["seconds"]) & {"rounding", "likeness", "coverage", "flaws"}
    assert none["missed_texels"] == kept["full"]["missed_texels"]


def test_maps_lie_there_with_a_manifest_before_they_are_judged(tmp_path):
    seen = []

    def written(manifest):
        kept = Manifest.model_validate_json((tmp_path / "manifest.json").read_text())
        seen.append((manifest.seen, kept.seen, kept.flaws, (tmp_path / kept.maps[0].file).is_file()))

    manifest = save(baked(plane(), plane(1, 0.02, name="high"), ["normal"]), tmp_path, written=written)
    assert seen == [(None, None, None, True)]
    assert manifest.seen is not None


def test_limits_need_a_bake_that_is_judged():
    with pytest.raises(ValueError, match="choose proof or full"):
        Limits(words="mean 5", judge="none")
    alone = Recipe(limits=Limits(judge="none"))
    with pytest.raises(InputProblem, match="not to be judged"):
        alone.held_to(HeldTo("mean 5"))
    assert alone.held_to(HeldTo()) == alone
    assert Recipe(limits=Limits(words="mean 5")).held_to(HeldTo(judge="proof")).limits.words == "mean 5"
    assert alone.proof().limits.judge == "full"  # a proof is there to be judged


def test_a_failed_write_leaves_nothing_half_done(tmp_path, monkeypatch):
    result = bake(small(depth=8), BakeMeshes([plane()], [plane()]))

    def full(path, steps):
        path.write_bytes(b"half")
        raise InputProblem("normal.png", "The disk is full.", "Free some space.")

    monkeypatch.setattr(png, "write", full)
    with pytest.raises(InputProblem, match="disk is full"):
        save(result, tmp_path)
    assert os.listdir(tmp_path) == []


@pytest.mark.parametrize(
    ("lows", "highs", "words"),
    [
        ([], [plane()], "no low"),
        ([plane(name="alone")], [], "alone: There is no high"),
        ([Mesh("bare", plane().positions, plane().triangles)], [plane()], "bare: It has no UVs"),
        ([plane()], [Mesh("dot", np.zeros((3, 3), np.float32), np.array([[0, 1, 2]], np.int32))], "dot: All of its 1"),
    ],
)
def test_meshes_that_cannot_be_baked_are_named(lows, highs, words):
    with pytest.raises(InputProblem, match=words):
        bake(small(), BakeMeshes(lows, highs))


def test_what_a_bake_could_not_do_is_said():
    away = grid_mesh(1, 1, lambda u, v: (u + 50, v, 0 * u), "away")
    assert any("share a place" in w for w in bake(small(), BakeMeshes([plane()], [away])).warnings)
    doubled = grid_mesh(1, 1, lambda u, v: (u, v, 0 * u + 0.2), "doubled")
    assert any("mirrored parts" in w for w in bake(small(), BakeMeshes([plane(), doubled], [plane()])).warnings)
    assert bake(small(), BakeMeshes([cube()], [cube()])).warnings == []


def test_saving_tells_its_stages_by_name_and_how_far_it_is(tmp_path):
    told = []
    save(baked(plane(), plane(1, 0.02, name="high"), ["normal"]), tmp_path, progress=lambda *how: told.append(how))
    assert [stage for stage, _ in told] == list(SAVING)
    shares = [share for _, share in told]
    assert shares == sorted(shares)
    assert shares[0] >= 0
    assert shares[-1] < 1
    assert sum(SAVING.values()) == pytest.approx(1)
