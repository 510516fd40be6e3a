"""Handoffs into folders that others use: nothing of theirs is touched, what is the same stays, what fails is put back."""

import os

import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.handoff import shared_folder
from inkwell_cast.core.handoff.batch import Summary, find_items, read_summary, run_item, still_good
from inkwell_cast.core.handoff.hand_off import hand_off
from inkwell_cast.core.handoff.handoff_preview import preview_handoff
from inkwell_cast.core.handoff.plan import refuse_unready
from inkwell_cast.core.handoff.whole_or_nothing import Taken
from inkwell_cast.core.piece.assembly import assemble
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.handoff import Handoff, Pack, Well

from .test_handoff import DAY, finished, recipe_for

SHARED = Handoff(shared=True)


@pytest.fixture(scope="module")
def pieces(tmp_path_factory):
    """Two pieces of one bake."""
    made, one = finished(tmp_path_factory.mktemp("bake"), recipe_for(), name="Lamp")
    return {name: (made, type(one)(name, one.manifest, one.files, one.shown, one.sides)) for name in ("Lamp", "Oar")}


def handed(piece, target, handoff=SHARED):
    made, own = piece
    return hand_off(own, made.assembly, made.warm, handoff, target, day=DAY)


def contents(folder):
    return {file.name: (file.read_bytes(), file.stat().st_mtime_ns, file.stat().st_ino) for file in folder.iterdir()}


@pytest.fixture
def textures(tmp_path):
    """A folder with a sidecar and a painting of somebody else."""
    folder = tmp_path / "textures"
    folder.mkdir()
    (folder / "Lamp_normal.png.meta").write_text("imported as a normal map")
    (folder / "flag.png").write_bytes(b"painted")
    return folder


def states(done):
    return {change.name: change.state for change in done.changes}


def test_several_pieces_share_a_folder_and_what_is_the_same_is_not_touched(pieces, textures):
    foreign = contents(textures)
    first, other = handed(pieces["Lamp"], textures), handed(pieces["Oar"], textures)
    assert set(states(first).values()) == set(states(other).values()) == {"new"}
    assert {"Lamp.manifest.json", "Lamp.report.html", "Oar.manifest.json", "Lamp_normal.png"} <= set(
        os.listdir(textures)
    )
    before = contents(textures)
    again = handed(pieces["Lamp"], textures)
    assert again.words == f"{len(again.changes)} the same"
    after = contents(textures)
    assert {name: after[name] for name in foreign} == foreign
    assert [name for name in before if after[name] != before[name]] == ["Lamp.manifest.json"]
    assert not [name for name in after if name.startswith(".inkwell")]


def test_only_what_changed_is_replaced_and_what_is_no_longer_made_goes(pieces, textures):
    handed(pieces["Lamp"], textures)
    handed(pieces["Oar"], textures)
    before = contents(textures)
    changed = Handoff(shared=True, cage=False, words={"occlusion": "shade"})
    done = states(handed(pieces["Lamp"], textures, changed))
    after = contents(textures)
    assert {name for name, state in done.items() if state == "gone"} == {"Lamp_cage.obj", "Lamp_occlusion.png"}
    assert (done["Lamp_shade.png"], done["Lamp_normal.png"]) == ("new", "same")
    assert set(before) - set(after) == {"Lamp_cage.obj", "Lamp_occlusion.png"}
    assert {name for name in before if name in after and before[name] != after[name]} == {
        "Lamp.manifest.json",
        "Lamp.report.html",
    }


def test_what_was_edited_by_hand_is_asked_about_and_never_removed(pieces, textures):
    handed(pieces["Lamp"], textures)
    for name in ("Lamp_normal.png", "Lamp_cage.obj"):
        (textures / name).write_bytes(b"painted over")
    before = contents(textures)
    with pytest.raises(Taken, match=r"Lamp_normal\.png and others|Lamp_.* changed there"):
        handed(pieces["Lamp"], textures)
    assert contents(textures) == before
    done = states(handed(pieces["Lamp"], textures, Handoff(shared=True, cage=False, existing="replace")))
    assert (done["Lamp_normal.png"], done["Lamp_cage.obj"]) == ("edited", "left")
    assert (textures / "Lamp_normal.png").read_bytes() != b"painted over"
    assert (textures / "Lamp_cage.obj").read_bytes() == b"painted over"


@pytest.mark.parametrize("existing", ["ask", "replace"])
def test_files_of_others_are_never_replaced_and_say_whose_they_are(pieces, textures, existing):
    (textures / "lamp_NORMAL.png").write_bytes(b"of somebody")
    before = contents(textures)
    with pytest.raises(InputProblem, match="No handoff wrote this file") as refused:
        handed(pieces["Lamp"], textures, Handoff(shared=True, existing=existing))
    assert not isinstance(refused.value, Taken)
    plain = Handoff(shared=True, pattern="{map}", existing=existing)
    with pytest.raises(InputProblem, match="No handoff wrote this file"):
        (textures / "normal.png").write_bytes(b"painted")
        handed(pieces["Lamp"], textures, plain)
    (textures / "normal.png").unlink()
    assert contents(textures) == before
    (textures / "lamp_NORMAL.png").unlink()
    handed(pieces["Oar"], textures, plain)
    with pytest.raises(InputProblem, match="belongs to the handoff of Oar"):
        handed(pieces["Lamp"], textures, plain)
    (textures / "file").write_text("x")
    with pytest.raises(InputProblem, match="not a folder"):
        handed(pieces["Lamp"], textures / "file")


def test_a_name_that_changes_by_case_alone_leaves_no_twin(pieces, textures):
    handed(pieces["Lamp"], textures)
    done = states(handed(pieces["Lamp"], textures, Handoff(shared=True, words={"normal": "Normal"})))
    assert (done["Lamp_Normal.png"], done["Lamp_normal.png"]) == ("new", "gone")
    assert "Lamp_normal.png" not in os.listdir(textures)
    assert handed(pieces["Lamp"], textures, Handoff(shared=True, words={"normal": "Normal"})).words.endswith("the same")


@pytest.mark.parametrize("at", [1, 3, 6])
def test_what_fails_in_the_midst_puts_all_back(pieces, textures, monkeypatch, at):
    handed(pieces["Lamp"], textures)
    changed = Handoff(shared=True, obj=False, words={"occlusion": "shade", "normal": "bumps"})
    before = {name: given[0] for name, given in contents(textures).items()}
    exchanged, count = shared_folder._exchanged, [0]

    def breaking(*given):
        count[0] += 1
        if count[0] > at:
            raise OSError(28, "No space left on device")
        return exchanged(*given)

    monkeypatch.setattr(shared_folder, "_exchanged", breaking)
    with pytest.raises(InputProblem, match="No space left"):
        handed(pieces["Lamp"], textures, changed)
    assert {name: given[0] for name, given in contents(textures).items()} == before


def test_a_folder_of_its_own_becomes_shared_and_an_archive_never_is(pieces, tmp_path):
    folder = handed(pieces["Lamp"], tmp_path / "out", Handoff()).path
    done = states(handed(pieces["Lamp"], folder))
    assert done["Lamp_normal.png"] == "same"
    assert not (folder / "manifest.json").exists()
    assert not (folder / "report.html").exists()
    assert (folder / "Lamp.manifest.json").exists()
    assert handed(pieces["Lamp"], tmp_path / "lamp.zip").path.is_file()


def test_a_place_is_refused_before_a_ray(pieces, textures):
    recipe = recipe_for(handoff=SHARED)
    refuse_unready(recipe.handoff, "Lamp", recipe, textures, "ask")
    (textures / "Lamp_normal.png").write_bytes(b"of somebody")
    with pytest.raises(InputProblem, match=r"Lamp_normal\.png: No handoff wrote"):
        refuse_unready(recipe.handoff, "Lamp", recipe, textures, "ask")


def test_a_batch_goes_into_a_shared_folder_and_knows_what_is_done(tmp_path, ring_files, textures):
    meshes = tmp_path / "meshes"
    meshes.mkdir()
    for file in ring_files:
        (meshes / file.name).write_bytes(file.read_bytes())
    (item,) = find_items([meshes])
    outcome = run_item(item, recipe_for(handoff=SHARED), None, textures)
    assert (outcome.folder, outcome.manifest) == ("", "ring.manifest.json")
    assert (textures / "ring_normal.png").exists()
    assert (textures / "flag.png").read_bytes() == b"painted"
    outcome = outcome.model_copy(update={"inputs": "x"})
    assert read_summary(textures) == Summary()
    assert still_good(outcome, "x", textures)
    (textures / "ring_normal.png").write_bytes(b"painted over")
    assert not still_good(outcome, "x", textures)
    with pytest.raises(Taken):
        run_item(item, recipe_for(handoff=SHARED), None, textures)


def test_a_handoff_is_foretold_before_a_ray(pieces, textures, ring_files):
    meshes = BakeMeshes([read_mesh(ring_files[0])], [read_mesh(ring_files[1])])
    packs = [Pack(name="masks", red=Well(map="occlusion"))]
    recipe = recipe_for(handoff=Handoff(shared=True, packs=packs, cage=False))
    told = preview_handoff(assemble(recipe, meshes), "Lamp", recipe.handoff, textures)
    assert told.problems == []
    assert {file.becomes for file in told.files} == {"new", ""}
    normal = next(file for file in told.files if file.file == "Lamp_normal.png")
    assert (normal.width, normal.height, normal.label) == (96, 64, "Normal")
    assert told.memory > 96 * 64 * 27
    made = handed(pieces["Lamp"], textures)
    (textures / "Lamp_normal.png").write_bytes(b"painted over")
    told = preview_handoff(assemble(recipe, meshes), "Lamp", recipe.handoff, textures)
    states = {file.file: file.becomes for file in told.files}
    assert (states["Lamp_normal.png"], states["Lamp_masks.png"], states["Lamp_cage.obj"]) == ("edited", "new", "gone")
    assert len(told.problems) == 1
    assert "changed there since the last handoff" in told.table()
    # what was preview_handoff is what is written
    for file in made.manifest.files:
        assert file.file in states
    lacking = recipe_for(maps=["normal"], handoff=Handoff(packs=packs))
    told = preview_handoff(assemble(lacking, meshes), "Oar", lacking.handoff, textures)
    assert any("take Occlusion" in problem for problem in told.problems)
    assert any("no handoff" in problem for problem in told.problems)  # a folder of its own it cannot have here


def test_sheets_of_their_own_are_foretold_with_their_pairs_and_sizes(textures, ring_files):
    meshes = BakeMeshes([read_mesh(ring_files[0])], [read_mesh(ring_files[1])])
    recipe = recipe_for()
    recipe = recipe.model_copy(update={"sheet": recipe.sheet.model_copy(update={"split": "material"})})
    handoff = Handoff(pattern="{pair}_{sheet}_{map}_{size}")
    told = preview_handoff(assemble(recipe, meshes), "Lamp", handoff, textures.parent / "out")
    assert told.problems == []
    assert any("96x64" in file.file and file.file.endswith(".png") for file in told.files)
