"""What Windows refuses, tried here: open and mapped files, names that cannot be."""

import numpy as np
import pytest

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.formats import read_mesh
from inkwell_cast.core.handoff.bake_on_disk import Finished
from inkwell_cast.core.handoff.hand_off import hand_off
from inkwell_cast.core.mesh.binary_message import read_packed, write_packed
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.handoff import Handoff
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.store import Store

from . import windows_double
from .shapes import torus

RECIPE = Recipe(sheet=Sheet(width=64, height=64, samples=1), output=Output(maps=["normal"]))


@pytest.fixture(autouse=True)
def windows(monkeypatch):
    windows_double.install(monkeypatch)


def test_the_double_refuses_what_is_open_mapped_or_cannot_be_called_so(tmp_path):
    (tmp_path / "a").write_bytes(b"x" * 4096)
    (tmp_path / "b").write_bytes(b"y" * 4096)
    mapped = np.memmap(tmp_path / "a", np.uint8, "c")
    with pytest.raises(PermissionError):
        (tmp_path / "a").unlink()
    with pytest.raises(PermissionError):
        (tmp_path / "b").replace(tmp_path / "a")
    with pytest.raises(OSError, match="no such name"):
        (tmp_path / "b").replace(tmp_path / "nul.png")
    with pytest.raises(OSError, match="case alone"):
        (tmp_path / "b").replace(tmp_path / "A")
    del mapped
    (tmp_path / "a").unlink()


def test_a_store_takes_the_same_content_twice_while_it_is_mapped_and_lets_go_of_it_later(tmp_path):
    store = Store(tmp_path / "data")
    digests = []
    for _ in range(2):
        folder = store.files.temporary_folder()
        write_packed(folder / "copy", torus(12, 6))
        digests.append(store.files.adopt(folder / "copy"))
        mesh = read_packed(store.files.path(digests[0]))
    assert digests[0] == digests[1]
    store.files.release(*digests)
    store.files.remove(digests[0])  # refused for now, silently
    assert len(mesh.triangles) == 144
    del mesh
    store.tidy()
    assert not store.files.path(digests[0]).exists()
    store.close()


def test_a_bake_is_written_handed_off_and_handed_off_again(tmp_path):
    warm = Warm()
    meshes = BakeMeshes([torus(16, 8)], [torus(60, 30, name="high")])
    for _ in range(2):
        baked = bake(RECIPE, meshes, warm=warm)
        manifest = save(baked, tmp_path / "bake", previews=tmp_path / "bake")
        files = {(m.sheet, m.key): tmp_path / "bake" / m.file for m in manifest.maps}
        finished = Finished("ring", manifest, files, files, {})
        handed = hand_off(finished, baked.assembly, warm, Handoff(existing="replace"), tmp_path / "out")
    assert handed.manifest.files
    read = [read_mesh(path) for path in (tmp_path / "out").glob("*.glb")]
    assert read
    hand_off(finished, baked.assembly, warm, Handoff(existing="replace"), tmp_path / "out")


@pytest.mark.deep
def test_uploads_pieces_and_live_proofs_live_with_files_that_the_engine_has_mapped(services, ring_files):
    """The processes of the lanes keep meshes mapped; nothing that the page does tries to replace or delete those."""
    tokens = {}
    for _ in range(2):  # the same files a second time, now mapped by the engine
        for path in ring_files:
            upload = services.uploads.take_from(str(path))
            tokens[upload.file_name] = upload.token
        piece = services.pieces.make("Ring", dict.fromkeys(tokens.values(), ""), RECIPE)
        services.live.show(piece, "normal")
        services.live.judge(piece, "normal")
        first = services.live.finish(piece)
        second, third = services.live.finish(piece), services.live.finish(piece)
        assert first < second < third
        assert services.bakes.get(first) is None
        assert services.bakes.get(second)  # a page may still fetch its pictures
        assert [row.id for row in services.pieces.wanted(piece)[2]] == [third]
        tokens.clear()
    services.pieces.delete(piece)
    services.disk.empty()
    services.store.tidy()
