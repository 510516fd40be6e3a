import json

import numpy as np
import pytest

from inkwell_cast.core.bake.live_proof import LiveProof
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import Cancelled
from inkwell_cast.core.mesh.binary_message import unpack
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.editing import add_pocket
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import torus

MAPS = Output(maps=["normal", "occlusion"])
RECIPE = Recipe(sheet=Sheet(width=256, height=256), output=MAPS, reach=Reach(outward=3.0, inward=3.0))
OTHER = RECIPE.model_copy(update={"reach": Reach(outward=4.0, inward=3.0)})


def quietly():
    return False


@pytest.fixture(scope="module")
def meshes():
    return BakeMeshes([torus(40, 20)], [torus(200, 100, name="high")])


@pytest.fixture
def live():
    return LiveProof(Warm())


def proof_of(recipe, meshes):
    return bake(recipe.proof(), meshes).images["normal"]


def same(shown, image):
    (picture,) = shown.pictures.values()
    steps = image if image.dtype == np.uint8 else (image.astype(int) + 128) // 257
    return np.array_equal(picture[..., :3], steps)


def test_what_changes_everything_is_first_a_draft_and_then_the_proof(live, meshes):
    first = live.show(RECIPE, meshes, "normal", False, quietly)
    assert first.draft
    judged = live.judge(RECIPE, meshes, "normal", quietly)
    assert not judged.draft
    assert same(judged, proof_of(RECIPE, meshes))
    assert not same(first, proof_of(RECIPE, meshes))
    assert not live.show(RECIPE, meshes, "normal", False, quietly).draft  # it is there


def test_what_changes_a_place_is_shown_with_all_samples_at_once(live, meshes):
    live.judge(RECIPE, meshes, "normal", quietly)
    place = tuple(meshes.lows[0].positions[0].tolist())
    pocket = add_pocket(RECIPE, place)
    shown = live.show(pocket, meshes, "normal", False, quietly)
    assert not shown.draft
    assert same(shown, proof_of(pocket, meshes))


def test_a_draft_that_is_dragged_does_not_drive_out_the_proof(live, meshes):
    live.judge(RECIPE, meshes, "normal", quietly)
    for n in range(3):
        tried = RECIPE.model_copy(update={"reach": Reach(outward=3.0 + n, inward=3.0)})
        assert live.show(tried, meshes, "normal", True, quietly).draft
    back = live.show(RECIPE, meshes, "normal", False, quietly)
    assert not back.draft
    assert same(back, proof_of(RECIPE, meshes))


def test_it_is_judged_as_the_saved_proof_is(live, meshes, tmp_path):
    judged = live.judge(RECIPE, meshes, "occlusion", quietly)
    saved = save(bake(RECIPE.proof(), meshes), tmp_path)
    assert judged.key == "occlusion"
    assert judged.seen == saved.seen
    assert live.judgement_of(RECIPE.proof(), meshes) is not None
    assert live.judgement_of(OTHER.proof(), meshes) is None


def test_a_message_holds_pictures_by_sheet_and_what_is_seen(live, meshes):
    message = live.judge(RECIPE, meshes, "normal", quietly).packed()
    header, arrays = unpack(np.frombuffer(message, np.uint8))
    assert header["sheets"] == [{"name": "", "width": 256, "height": 256}]
    assert arrays["sheet0"].shape == (256, 256, 4)
    assert json.loads(json.dumps(header["seen"]))["bake"]["mean"] > 0


def test_a_map_that_the_piece_does_not_have_gives_its_first(live, meshes):
    assert live.show(RECIPE, meshes, "height", False, quietly).key == "normal"
    heights = RECIPE.model_copy(update={"output": Output(maps=["height"])})
    assert live.judge(heights, meshes, "normal", quietly).seen is None


def test_one_that_was_ended_leaves_nothing_wrong_behind(live, meshes):
    live.judge(RECIPE, meshes, "normal", quietly)
    left = iter([False, False, False, True])
    with pytest.raises(Cancelled):
        live.judge(OTHER, meshes, "normal", lambda: next(left, True))
    judged = live.judge(OTHER, meshes, "normal", quietly)
    assert same(judged, proof_of(OTHER, meshes))
