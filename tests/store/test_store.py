import sqlite3

import pytest

from inkwell_cast.core.recipe import Recipe, Sheet
from inkwell_cast.store import Store, bakes, meshes, pieces
from inkwell_cast.store.database import connect


@pytest.fixture
def store(tmp_path):
    opened = Store(tmp_path / "data")
    yield opened
    opened.close()


FACTS = meshes.Facts(triangles=2, vertices=4, parts=[], materials=[], channels=1, diagonal=1.5)


def put_mesh(db, piece_id, name="a.obj", copy="1" * 64):
    meshes.put(db, piece_id, name, "0" * 64, copy, 10, FACTS)


def test_pieces_come_back_as_they_were(store):
    recipe = Recipe(sheet=Sheet(width=64))
    with store.writing() as db:
        piece_id = pieces.add(db, "Harbour bell", recipe)
        put_mesh(db, piece_id)
    with store.reading() as db:
        assert pieces.get(db, piece_id).recipe == recipe
        assert [m.file_name for m in meshes.of_piece(db, piece_id)] == ["a.obj"]


def test_a_failed_write_changes_nothing(store):
    with pytest.raises(sqlite3.IntegrityError), store.writing() as db:
        piece_id = pieces.add(db, "half", Recipe())
        put_mesh(db, piece_id + 7)
    with store.reading() as db:
        assert pieces.all_of(db) == []


def test_deleting_a_piece_takes_its_rows_along(store):
    with store.writing() as db:
        piece_id = pieces.add(db, "gone", Recipe())
        put_mesh(db, piece_id)
        bakes.add(db, piece_id, Recipe(), "key")
        pieces.delete(db, piece_id)
    with store.reading() as db:
        assert meshes.of_piece(db, piece_id) == bakes.of_piece(db, piece_id) == []


def test_open_bakes_are_marked_interrupted(store):
    with store.writing() as db:
        piece_id = pieces.add(db, "p", Recipe())
        ids = [bakes.add(db, piece_id, Recipe(), "key") for _ in range(3)]
        bakes.start(db, ids[1])
        bakes.end(db, ids[2], "failed", "it broke")
        assert bakes.mark_interrupted(db) == 2
        states = [bakes.get(db, k).state for k in ids]
    assert states == ["interrupted", "interrupted", "failed"]


def test_time_left_follows_the_share(store):
    with store.writing() as db:
        bake_id = bakes.add(db, pieces.add(db, "p", Recipe()), Recipe(), "key")
        assert bakes.get(db, bake_id).seconds_left is None
        bakes.start(db, bake_id)
        db.execute("UPDATE bake SET started = started - 10 WHERE id = ?", (bake_id,))
        bakes.tell(db, bake_id, "casting", 0.5)
        assert bakes.get(db, bake_id).seconds_left == pytest.approx(10, abs=0.5)


def test_files_go_by_their_content(store):
    hashes = []
    for _ in range(2):
        folder = store.files.temporary_folder()
        (folder / "x").write_bytes(b"ink")
        hashes.append(store.files.adopt(folder / "x"))
        assert not (folder / "x").exists()
    assert hashes[0] == hashes[1]
    assert store.files.path(hashes[0]).read_bytes() == b"ink"
    for bad in ("../../etc/passwd", "A" * 64, ""):
        with pytest.raises(ValueError, match="not a content hash"):
            store.files.path(bad)


def test_tidying_removes_leftovers_and_orphans_only(store):
    kept, orphan = [], []
    for content, into in ((b"kept", kept), (b"orphan", orphan)):
        folder = store.files.temporary_folder()
        (folder / "x").write_bytes(content)
        into.append(store.files.adopt(folder / "x"))
    with store.writing() as db:
        put_mesh(db, pieces.add(db, "p", Recipe()), copy=kept[0])
    store.tidy()
    assert store.files.path(kept[0]).exists()
    assert not store.files.path(orphan[0]).exists()
    assert list(store.files.incoming.iterdir()) == []


def test_the_database_is_opened_again_and_newer_ones_are_refused(tmp_path):
    path = tmp_path / "x.sqlite"
    connect(path).close()
    again = connect(path)
    assert again.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    assert again.execute("PRAGMA foreign_keys").fetchone()[0] == 1
    again.execute("PRAGMA user_version = 999")
    again.close()
    with pytest.raises(RuntimeError, match="newer version"):
        connect(path)


def test_a_folder_is_open_in_one_program_at_a_time(tmp_path):
    first = Store(tmp_path)
    with pytest.raises(RuntimeError, match="open in another Inkwell Cast"):
        Store(tmp_path)
    first.close()
    Store(tmp_path).close()


def test_changes_are_a_line_that_is_walked_back_and_forth(store):
    with store.writing() as db:
        piece_id = pieces.add(db, "p", Recipe())
        for width in (32, 64):
            pieces.set_recipe(db, piece_id, Recipe(sheet=Sheet(width=width)), f"to {width}")
        assert (pieces.get(db, piece_id).undo, pieces.get(db, piece_id).redo) == ("to 64", "")
        assert pieces.move(db, piece_id, -1)
        assert pieces.move(db, piece_id, -1)
        assert not pieces.move(db, piece_id, -1)
        assert (pieces.get(db, piece_id).undo, pieces.get(db, piece_id).redo) == ("", "to 32")
        pieces.set_recipe(db, piece_id, Recipe(sheet=Sheet(width=16)), "to 16")
        assert not pieces.move(db, piece_id, 1)
        assert pieces.get(db, piece_id).recipe.sheet.width == 16


def test_a_file_of_the_same_name_takes_the_place_of_the_old_one(store):
    with store.writing() as db:
        piece_id = pieces.add(db, "p", Recipe())
        put_mesh(db, piece_id)
        first = meshes.of_piece(db, piece_id)[0]
        meshes.set_place(db, first.id, "there", True)
        put_mesh(db, piece_id, copy="2" * 64)
        again = meshes.of_piece(db, piece_id)
    assert [(m.id, m.copy, m.place, m.watched) for m in again] == [(first.id, "2" * 64, "there", True)]
    assert first.facts == FACTS
