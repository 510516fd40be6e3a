"""What a batch finds in folders, runs and remembers."""

import base64

import cv2
import numpy as np
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.core.formats.files_beside import companions_of
from inkwell_cast.core.handoff.batch import (
    Item,
    Outcome,
    Summary,
    find_items,
    inputs_of,
    read_summary,
    resumed,
    run_item,
    still_good,
    write_summary,
)
from inkwell_cast.core.handoff.piece_file import write_meshes
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.receivers import READY, SheetForm
from inkwell_cast.core.settings.recipe import Recipe

from ...shapes import torus

SMALL = READY[2].model_copy(update={"sheet": SheetForm(width=64, height=64)})


def write_pair(folder, name):
    folder.mkdir(exist_ok=True, parents=True)
    write_mesh(folder / f"{name}_low.obj", torus(12, 6))
    write_mesh(folder / f"{name}_high.ply", torus(40, 20))


@pytest.fixture
def folder(tmp_path):
    """Two pieces by name, one in a folder of its own, and one in a piece file."""
    given = tmp_path / "given"
    write_pair(given, "ring")
    write_pair(given, "Hoop")
    write_mesh(given / "hoop_high_detail.ply", torus(30, 15))
    write_pair(given / "lamp", "shade")
    write_meshes(
        given / "torc.icast",
        "Torc",
        Recipe(reach=Reach(outward=4)),
        [
            (torus(12, 6, name="torc_low.obj"), "0" * 64),
            (torus(40, 20, name="torc_high.ply"), "0" * 64),
        ],
    )
    (given / "notes.txt").write_text("nothing to bake")
    (given / "empty").mkdir()
    return given


def test_pieces_are_found_by_name_by_folder_and_by_file(folder):
    items = find_items([folder])
    assert [item.name for item in items] == ["Hoop", "lamp", "ring", "torc"]
    found = {item.name: [file.name for file in item.files] for item in items}
    assert found["ring"] == ["ring_high.ply", "ring_low.obj"]
    assert sorted(found["Hoop"]) == ["Hoop_high.ply", "Hoop_low.obj", "hoop_high_detail.ply"]
    assert found["torc"] == ["torc.icast"]
    assert find_items([folder / "torc.icast"])[0].is_piece


def test_what_cannot_be_found_or_told_apart_is_said(folder, tmp_path):
    with pytest.raises(InputProblem, match="no such folder"):
        find_items([tmp_path / "nowhere"])
    with pytest.raises(InputProblem, match="no such folder"):
        find_items([folder / "notes.txt"])
    with pytest.raises(InputProblem, match="Nothing to bake"):
        find_items([folder / "empty"])
    write_pair(folder / "more", "RING")
    (folder / "more").rename(folder / "Ring")
    with pytest.raises(InputProblem, match="Another piece is called"):
        find_items([folder])


def test_a_piece_is_baked_and_handed_off_into_a_folder_of_its_name(folder, tmp_path):
    item = next(item for item in find_items([folder]) if item.name == "ring")
    out, stages = tmp_path / "out", []
    done = run_item(item, Recipe(), SMALL, out, progress=lambda stage, share: stages.append(share))
    assert (done.state, done.folder, done.texels) == ("done", "ring", 64 * 64)
    assert (out / "ring" / "ring_normal.tga").is_file()
    assert [file.name for file in out.iterdir()] == ["ring"]
    assert stages == sorted(stages)
    again = run_item(item, Recipe(), SMALL, out)  # in its own place
    assert (again.folder, len(list(out.iterdir()))) == ("ring", 1)
    alone = Item("alone", (folder / "ring_low.obj",))
    with pytest.raises(InputProblem, match="no high"):
        run_item(alone, Recipe(), SMALL, out)
    assert len(list(out.iterdir())) == 1


def test_a_result_holds_until_its_inputs_or_its_files_change(folder, tmp_path):
    item, out = find_items([folder / "torc.icast"])[0], tmp_path / "out"
    inputs = inputs_of(item, Recipe(), SMALL, False)
    outcome = run_item(item, Recipe(), SMALL, out).model_copy(update={"inputs": inputs})
    assert still_good(outcome, inputs, out)
    assert not still_good(outcome, inputs_of(item, Recipe(), READY[0], False), out)
    assert not still_good(outcome, inputs_of(item, Recipe(reach=Reach(outward=2)), SMALL, False), out)
    assert not still_good(None, inputs, out)
    picture = next((out / "torc").glob("*.tga"))
    written = picture.read_bytes()
    picture.write_bytes(written[:-1] + b"?")
    assert not still_good(outcome, inputs, out)
    picture.unlink()
    assert not still_good(outcome, inputs, out)
    picture.write_bytes(written)
    assert still_good(outcome, inputs, out)
    (out / "torc" / "manifest.json").unlink()
    assert not still_good(outcome, inputs, out)


def test_what_lies_beside_a_mesh_is_an_input_too(tmp_path, monkeypatch):
    (tmp_path / "a_high.obj").write_text("mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    (tmp_path / "a.mtl").write_text("newmtl m\nKd 1 0 0\nmap_Kd -s 1 1 1 wood.png\nmap_Ke embers.png\n")
    (tmp_path / "wood.png").write_bytes(b"grain")
    (tmp_path / "embers.png").write_bytes(b"glow")
    (tmp_path / "b.gltf").write_text('{"buffers": [{"uri": "b%20c.bin"}], "images": [{"uri": "data:x"}]}')
    (tmp_path / "b c.bin").write_bytes(b"data")
    assert [p.name for p in companions_of(tmp_path / "a_high.obj")] == ["a.mtl", "wood.png", "embers.png"]
    assert [p.name for p in companions_of(tmp_path / "b.gltf")] == ["b c.bin"]
    item = Item("a", (tmp_path / "a_high.obj", tmp_path / "b.gltf"))
    seen = {inputs_of(item, Recipe(), None, False)}
    for name in ("a.mtl", "wood.png", "b c.bin"):
        (tmp_path / name).write_bytes((tmp_path / name).read_bytes() + b"\n# more")
        seen.add(inputs_of(item, Recipe(), None, False))
    monkeypatch.setattr("inkwell_cast.core.handoff.batch.__version__", "999")
    seen.add(inputs_of(item, Recipe(), None, False))
    assert len(seen) == 5


def test_what_stands_in_the_way_is_refused_before_the_first_ray(folder, tmp_path, monkeypatch):
    item, out = find_items([folder / "torc.icast"])[0], tmp_path / "out"
    out.mkdir()
    (out / "torc").write_text("a file")
    monkeypatch.setattr("inkwell_cast.core.handoff.batch.make", lambda *given: pytest.fail("baked"))
    with pytest.raises(InputProblem, match="not a folder"):
        run_item(item, Recipe(), SMALL, out)
    assert (out / "torc").read_text() == "a file"


def test_a_summary_is_a_table_and_comes_back(tmp_path):
    items = [Item("a", ()), Item("b", ())]
    summary = resumed(items, Summary(), "Green down")
    assert [own.state for own in summary.outcomes] == ["waiting", "waiting"]
    summary = summary.with_outcome(Outcome(piece="b", state="failed", message="b: no UVs."))
    summary = summary.with_outcome(Outcome(piece="a", state="done", likeness=0.25, missed_texels=1200, seconds=3))
    assert summary.failed == 1
    write_summary(tmp_path / "out", summary)
    assert read_summary(tmp_path / "out") == summary
    head, first, second = (tmp_path / "out" / "summary.txt").read_text().splitlines()
    assert head.split() == ["piece", "state", "likeness", "missed", "flaws", "seconds"]
    assert first.split() == ["a", "done", "0.25°", "1,200", "3.0"]
    assert second.endswith("b: no UVs.")
    (tmp_path / "out" / "summary.json").write_text("{")
    assert read_summary(tmp_path / "out") == Summary()
    (tmp_path / "file").write_text("")
    with pytest.raises(InputProblem, match="cannot be made"):
        write_summary(tmp_path / "file" / "out", summary)


def test_the_page_of_a_batch_shows_what_needs_a_look_first(folder, tmp_path):
    item = next(item for item in find_items([folder]) if item.name == "ring")
    done = run_item(item, Recipe(), SMALL, tmp_path / "out")
    assert 0 <= done.excess <= done.likeness
    image = cv2.imdecode(np.frombuffer(base64.b64decode(done.picture), np.uint8), cv2.IMREAD_UNCHANGED)
    assert image.shape == (160, 320, 4)
    assert image[0, 0, 3] == 0  # nothing is seen there: the page shows through
    assert image.std() > 5
    rows = {
        "fine": done.model_copy(update={"excess": 0.1}),
        "to mend": done.model_copy(update={"excess": 4.0}),
        "beyond": done.model_copy(update={"beyond": ["mean is 9°, beyond 3°"]}),
        "<b>bad</b>": Outcome(piece="", state="failed", message="<script>alert(1)</script>"),
        "later": Outcome(piece="", state="waiting"),
    }
    summary = Summary(outcomes=[outcome.model_copy(update={"piece": piece}) for piece, outcome in rows.items()])
    write_summary(tmp_path / "out", summary)
    page = (tmp_path / "out" / "index.html").read_text()
    order = ["&lt;b&gt;bad", "beyond", "to mend", "fine", "later"]
    places = [page.index(f">{name}") for name in order]
    assert places == sorted(places)
    assert "<script" not in page
    assert "http" not in page.replace('<html lang="en">', "")
    if done.report:
        assert (tmp_path / "out" / done.report).is_file()
        assert f'href="{done.report}"' in page
