"""The report of a handoff: flaws on its pictures, and what changed since the handoff before."""

import zipfile
from dataclasses import replace

import pytest

from inkwell_cast.core.review.from_afar import DISTANCES
from inkwell_cast.core.settings.handoff import Handoff
from inkwell_cast.core.settings.reach import Reach

from .test_handoff import finished, handed, recipe_for


@pytest.fixture(scope="module")
def ring(tmp_path_factory):
    return finished(tmp_path_factory.mktemp("ring"), recipe_for())


def page_of(done):
    if done.path.suffix != ".zip":
        return (done.path / "report.html").read_text()
    with zipfile.ZipFile(done.path) as archive:
        return archive.read(f"{done.path.stem}/report.html").decode()


@pytest.mark.parametrize(("name", "existing"), [("out", "replace"), ("out", "number"), ("out.zip", "replace")])
def test_a_report_says_what_changed_since_the_handoff_before(ring, tmp_path, name, existing):
    assert "Against the handoff" not in page_of(handed(ring, tmp_path / name))
    assert "Against the handoff" not in page_of(handed(ring, tmp_path / name, Handoff(existing=existing)))  # no change
    made, own = ring
    worse = own.manifest.model_copy(deep=True)
    worse.missed_texels, worse.recipe.reach.outward = 7, 0.4
    other = (made, replace(own, manifest=worse))
    page = page_of(handed(other, tmp_path / name, Handoff(existing=existing, words={"normal": "n"})))
    assert "Against the handoff of 2031-05-06" in page
    assert f"<td>{own.manifest.missed_texels}<td" in page
    assert ">7, worse<" in page
    assert "Outward 0.3 → 0.4" in page
    for words in ("1 file new: <", "1 file no longer made: <"):
        assert words in page
    stranger = replace(own, piece="Another")
    assert "Against" not in page_of(handed((made, stranger), tmp_path / name, Handoff(existing=existing)))


def test_flaws_are_marked_on_the_pictures_by_their_numbers_in_the_list(tmp_path):
    recipe = recipe_for(maps=("normal",)).model_copy(update={"reach": Reach(unit="scene", outward=0.01, inward=0.01)})
    made, own = finished(tmp_path, recipe)
    assert own.manifest.flaws
    assert len(own.manifest.marks) == len(own.manifest.flaws)
    page = page_of(handed((made, own), tmp_path / "out"))
    afar = own.manifest.from_afar
    assert list(afar) == list(DISTANCES)
    assert 0 < afar[32] <= afar[256] + 1e-3
    assert f"Drawn 256, 128, 64, 32 pixels high, its light differs from the sculpt’s by {100 * afar[256]:.1f}" in page
    seen = [n for n, places in enumerate(own.manifest.marks, 1) if places]
    assert seen
    for n in seen:
        assert page.count(f">{n}</text>") == 2 * len(own.manifest.marks[n - 1])  # on the low and on its heat
