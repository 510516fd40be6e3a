"""Mend all: what helps is kept, what does not is taken back and the next choice tried, and nothing else gets worse."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.bake.baked import Bake
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.mending import mend_all as module
from inkwell_cast.core.mending.mend_all import mend_all
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Patch
from inkwell_cast.core.settings.scope_settings import ScopeSettings
from inkwell_cast.core.settings.sheet import Sheet

from ...shapes import plane, ribbed
from ..bakes import moved
from ..flaws.test_flaws import frame, island

RECIPE = Recipe(
    reach=Reach(unit="scene", outward=0.05, inward=0.05),
    sheet=Sheet(width=96, height=96, samples=1),
    output=Output(maps=["normal"], depth=16),
)
NOTHING = Mend(name="nothing", words="Do nothing")
BLIND = Mend(name="blind", words="See nothing", levels={"object:plane/plane": ScopeSettings(outward=0, inward=0)})


@pytest.fixture
def meshes():
    """A plane whose middle stands out of reach."""
    return BakeMeshes([plane()], [merge([frame(), replace(island(0.2), uvs=())], "high")])


def offering(monkeypatch, first):
    """Every flaw has another mend before its own."""
    as_found = Bake.flaws

    def found(bake, judged=None):
        told = as_found(bake, judged)
        shown = [
            replace(one, flaw=one.flaw.model_copy(update={"mends": [first, *one.flaw.mends]})) for one in told.shown
        ]
        return replace(told, shown=shown)

    monkeypatch.setattr(Bake, "flaws", found)


def test_a_mend_that_helps_is_kept_and_told_of(meshes):
    told = []
    seen = list[tuple[str, str, int]]()
    done = mend_all(
        RECIPE,
        meshes,
        lambda stage, share: told.append(share),
        kept=lambda key, sheet, image: seen.append((key, sheet, image.ndim)),
    )
    assert set(seen) == {("normal", "", 3)}  # what was kept so far is shown
    (tried,) = done.report.tried
    assert tried.kept
    assert tried.after < 0.1 * tried.before
    assert done.report.flaws == (1, 0)
    assert done.report.weight[1] < 0.1 * done.report.weight[0]
    assert done.bake.cast.missed == 0
    assert len(done.recipe.mends) == 1
    assert told == sorted(told)
    assert told[-1] == 1


def test_nothing_is_tried_for_what_nobody_would_see(meshes, monkeypatch):
    (tried,) = mend_all(RECIPE, meshes).report.tried
    monkeypatch.setattr(module, "WORTH", tried.before * 1.01)
    assert mend_all(RECIPE, meshes).report.tried == []


@pytest.mark.parametrize("first", [NOTHING, BLIND])
def test_one_that_does_no_good_or_harm_is_taken_back_and_the_next_is_tried(meshes, monkeypatch, first):
    offering(monkeypatch, first)
    done = mend_all(RECIPE, meshes)
    assert [(tried.words[:10], tried.kept) for tried in done.report.tried] == [
        (first.words[:10], False),
        ("Place a po", True),
    ]
    assert [mend.name for mend in done.recipe.mends] == ["Sculpt outside the cage, plane"]
    assert done.bake.cast.missed == 0


def test_what_harms_another_place_is_not_kept_though_it_cures_its_own(meshes, monkeypatch):
    """A larger reach for the whole low cures the island, and strikes a ribbed lid everywhere else."""
    lid = ribbed("lid", 0.3)
    high = merge([frame(), replace(island(0.2), uvs=()), lid], "high")
    far = Mend(name="far", words="Reach far", levels={"object:plane/plane": ScopeSettings(outward=0.4)})
    offering(monkeypatch, far)
    done = mend_all(RECIPE, BakeMeshes([plane()], [replace(high, uvs=())]))
    assert all(tried.words != "Reach far" or not tried.kept for tried in done.report.tried)


def test_a_clean_bake_is_left_as_it_is():
    done = mend_all(RECIPE, BakeMeshes([plane()], [plane(4, 0.01)]))
    assert (done.report.tried, done.report.flaws) == ([], (0, 0))
    assert done.recipe == RECIPE


def test_a_nearer_surface_than_the_first_is_taken_where_that_is_asked_for():
    """A ribbed lid over a ribbed floor: the first surface is the lid's, the nearest the floor's."""
    high = replace(merge([ribbed("floor", 0.01, across=1), ribbed("lid", 0.2)], "high"), uvs=())
    far = RECIPE.model_copy(update={"reach": Reach(unit="scene", outward=0.3, inward=0.1)})
    ball = Patch(centre=(0.5, 0.5, 0.0), radius=0.3, rim=0.2, nearest=True)
    cast = bake(far.model_copy(update={"patches": [ball]}), BakeMeshes([plane()], [high])).cast
    y, x = np.nonzero(cast.covered)
    away = np.hypot((x + 0.5) / 96 - 0.5, 0.5 - (y + 0.5) / 96)
    assert cast.height[y, x][away < 0.23] == pytest.approx(0.01, abs=1e-5)
    assert cast.height[y, x][away > 0.31] == pytest.approx(0.2, abs=1e-5)


def test_a_reach_that_is_wrong_in_several_places_is_measured_anew():
    """Four ribbed lids over a ribbed floor, each struck from too far out."""
    lids = [moved(ribbed(f"lid {u} {v}", 0.25), (u, v, 0), (0.3, 0.3, 1)) for u in (0.1, 0.6) for v in (0.1, 0.6)]
    high = replace(merge([ribbed("floor", 0.002, across=1), *lids], "high"), uvs=())
    far = RECIPE.model_copy(update={"reach": Reach(unit="scene", outward=0.3, inward=0.05)})
    done = mend_all(far, BakeMeshes([plane()], [high]))
    assert done.report.tried[0].title == "The reach"
    assert done.report.tried[0].kept
    (mend,) = done.recipe.mends
    (level,) = mend.levels.values()
    assert level.outward < 0.1
    assert done.report.weight[1] < 0.02 * done.report.weight[0]


def test_shade_of_a_neighbour_is_mended_too():
    """Trials bake the occlusion too, or the flaw would never be seen in them."""
    floor, wall = plane(2, name="floor_low"), plane(2, name="wall_low")
    at = wall.positions
    wall = replace(wall, positions=np.stack([0 * at[:, 0], at[:, 0], at[:, 1] + 0.02], axis=1))
    named = [(floor, "floor"), (wall, "wall")]
    highs = [replace(mesh, name=f"{n}_high", object_names=(f"{n}_high",), uvs=()) for mesh, n in named]
    given = RECIPE.model_copy(
        update={
            "output": Output(maps=["normal", "occlusion"]),
            "occlusion": Occlusion(rays=4, occluders="piece"),
            "reach": Reach(unit="scene", outward=0.01, inward=0.01),
        }
    )
    done = mend_all(given, BakeMeshes([], [], [merge([floor, wall], "low"), *highs]))
    assert "Let only the own pair occlude" in [tried.words for tried in done.report.tried if tried.kept]
    assert "neighbour" not in {flaw.cause for flaw in done.bake.flaws().flaws}


def test_what_is_told_as_kept_is_kept_when_the_budget_ends(meshes, monkeypatch):
    """One of two mends that are tried together does good, and no trial is left."""
    lifted = [
        replace(moved(island(0.2, str(n)), (by, by, 0), (0.3, 0.3, 1)), uvs=()) for n, by in enumerate((0.0, 0.5))
    ]
    cells = plane(20, name="high")
    middle = cells.positions[cells.triangles].mean(axis=1)[:, :2]
    holes = [(np.abs(middle - (by + 0.15)) < 0.07).all(axis=1) for by in (0.0, 0.5)]
    pierced = replace(cells, triangles=cells.triangles[~(holes[0] | holes[1])], uvs=())
    as_found = Bake.flaws

    def found(bake, judged=None):
        told = as_found(bake, judged)
        shown = list(told.shown)
        if len(shown) == 2:
            shown[1] = replace(shown[1], flaw=shown[1].flaw.model_copy(update={"mends": [NOTHING]}))
        return replace(told, shown=shown)

    monkeypatch.setattr(Bake, "flaws", found)
    monkeypatch.setattr(module, "FEWEST", 2)
    monkeypatch.setattr(module, "BUDGET", 2)
    done = mend_all(RECIPE, BakeMeshes([plane()], [merge([pierced, *lifted], "high")]))
    kept = [tried.words for tried in done.report.tried if tried.kept]
    assert len(kept) == 1
    assert [mend.words for mend in done.recipe.mends] == kept
