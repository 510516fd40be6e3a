import contextlib
import os
import sqlite3
import time

import pytest

from inkwell_cast.core.bake.manifest import Manifest
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.store import Store, bakes, disk, meshes, pieces, undo
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


def adopted(store, content):
    folder = store.files.temporary_folder()
    (folder / "x").write_bytes(content)
    return store.files.adopt(folder / "x")


def finished(db, piece_id, digest, proof=False):
    """A bake with one picture, done in the tables alone."""
    bake_id = bakes.add(db, piece_id, Recipe(), "key", proof)
    db.execute("UPDATE bake SET state = 'done' WHERE id = ?", (bake_id,))
    db.execute("INSERT INTO picture VALUES (?, '', 'normal', ?)", (bake_id, digest))
    return bake_id


def test_a_deleted_piece_comes_back_whole_until_it_is_removed_for_good(store):
    copy, shared = adopted(store, b"mesh"), adopted(store, b"in two pieces")
    store.files.release(copy, shared)
    with store.writing() as db:
        piece_id, other = pieces.add(db, "gone", Recipe()), pieces.add(db, "stays", Recipe())
        put_mesh(db, piece_id, copy=copy)
        finished(db, piece_id, shared)
        finished(db, other, shared)
        pieces.delete(db, piece_id)
        assert pieces.get(db, piece_id) is None
        assert [p.name for p in pieces.all_of(db)] == ["stays"]
        assert pieces.bring_back(db, piece_id)
        assert len(meshes.of_piece(db, piece_id)) == len(bakes.of_piece(db, piece_id)) == 1
        pieces.delete(db, piece_id)
    store.remove_deleted(before=0)
    assert store.files.size(copy)
    store.remove_deleted(before=2e9 * 2)
    with store.reading() as db:
        assert meshes.of_piece(db, piece_id) == bakes.of_piece(db, piece_id) == []
    assert not store.files.size(copy)
    assert store.files.size(shared)  # the other piece shows it


def test_one_of_two_bakes_that_share_a_picture_is_deleted(store):
    digest = adopted(store, b"picture")
    store.files.release(digest)
    with store.writing() as db:
        piece_id = pieces.add(db, "p", Recipe())
        first, second = (finished(db, piece_id, digest) for _ in range(2))
        bakes.delete(db, [first], 5.0)
        assert [row.id for row in bakes.of_piece(db, piece_id)] == [second]
    store.remove_deleted(before=6.0)
    assert store.files.size(digest)
    with store.writing() as db:
        bakes.delete(db, [second], 7.0)
    store.remove_deleted(before=8.0)
    assert not store.files.size(digest)


def test_bakes_deleted_together_come_back_together(store):
    with store.writing() as db:
        piece_id = pieces.add(db, "p", Recipe())
        ids = [finished(db, piece_id, "a" * 64, proof=True) for _ in range(5)]
        bakes.rename(db, ids[0], "the good one")
        spare = bakes.spare_proofs(db, piece_id, 2)
        assert sorted(spare) == ids[1:3]  # the newest two stay, and the one with a name
        bakes.delete(db, spare, 5.5)
        assert bakes.bring_back(db, piece_id, 5.5) == 2
        assert bakes.count_done(db, piece_id) == 5


def test_a_file_that_is_being_adopted_is_not_removed(store):
    digest = adopted(store, b"soon named")
    store.files.remove(digest)
    assert store.files.size(digest)
    store.files.release(digest)
    store.files.remove(digest)
    assert not store.files.size(digest)


def test_a_file_is_on_the_disk_before_it_takes_its_place(store, monkeypatch):
    done = []
    monkeypatch.setattr("os.fsync", lambda handle: done.append("sync"))
    replace = os.replace
    monkeypatch.setattr("os.replace", lambda a, b: (done.append("replace"), replace(a, b)))
    adopted(store, b"ink")
    assert done == ["sync", "replace", "sync"]


class FullDisk:
    """A connection whose COMMIT fails, as on a full disk."""

    def __init__(self, real):
        self.real, self.fails = real, True

    def execute(self, words, *values):
        if words == "COMMIT" and self.fails:
            raise sqlite3.OperationalError("database or disk is full")
        return self.real.execute(words, *values)

    def __getattr__(self, name):
        return getattr(self.real, name)


def test_a_commit_that_fails_is_rolled_back(store):
    store._connection = full = FullDisk(store._connection)
    with pytest.raises(sqlite3.OperationalError, match="full"), store.writing() as db:
        pieces.add(db, "lost", Recipe())
    full.fails = False
    with store.writing() as db:
        pieces.add(db, "kept", Recipe())
    with store.reading() as db:
        assert [p.name for p in pieces.all_of(db)] == ["kept"]


def test_lists_of_bakes_read_neither_recipes_nor_manifests(store):
    with store.writing() as db:
        piece_id = pieces.add(db, "p", Recipe())
        for _ in range(20):
            finished(db, piece_id, "a" * 64)
        db.execute("UPDATE bake_contents SET recipe = 'not JSON', manifest = 'not JSON'")
        assert len(bakes.of_piece(db, piece_id)) == 20
        assert len(bakes.of_piece(db, piece_id, 12)) == 12
        assert bakes.newest_done(db, piece_id).summary.width == 2048


def test_bakes_of_before_get_their_summary(tmp_path):
    first = Store(tmp_path)
    with first.writing() as db:
        bake_id = bakes.add(db, pieces.add(db, "p", Recipe()), Recipe(sheet=Sheet(width=64)), "key")
        db.execute("UPDATE bake SET summary = ''")
    first.tidy()
    with first.reading() as db:
        assert bakes.row_of(db, bake_id).summary.width == 64
    first.close()


def test_open_bakes_are_marked_interrupted(store):
    with store.writing() as db:
        piece_id = pieces.add(db, "p", Recipe())
        ids = [bakes.add(db, piece_id, Recipe(), "key") for _ in range(3)]
        bakes.start(db, ids[1])
        bakes.end(db, ids[2], "failed", "it broke")
        assert bakes.mark_interrupted(db) == 2
        states = [bakes.get(db, k).state for k in ids]
    assert states == ["interrupted", "interrupted", "failed"]


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
        into.append(adopted(store, content))
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
            undo.set_recipe(db, piece_id, Recipe(sheet=Sheet(width=width)), f"to {width}")
        assert (pieces.get(db, piece_id).undo, pieces.get(db, piece_id).redo) == ("to 64", "")
        assert undo.move(db, piece_id, -1)
        assert undo.move(db, piece_id, -1)
        assert not undo.move(db, piece_id, -1)
        assert (pieces.get(db, piece_id).undo, pieces.get(db, piece_id).redo) == ("", "to 32")
        undo.set_recipe(db, piece_id, Recipe(sheet=Sheet(width=16)), "to 16")
        assert not undo.move(db, piece_id, 1)
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


def test_a_live_proof_stands_in_the_place_of_the_one_before(store):
    """Lists show one of them; what stood for a while, or was kept, stays; no number is given twice."""
    recipe = Recipe()
    manifest = Manifest(
        recipe=recipe,
        meshes=[],
        maps=[],
        diagonal=1,
        outward_reach=1,
        inward_reach=1,
        coverage=1,
        texels=0,
        missed_texels=0,
        shared_texels=0,
        warnings=[],
        seconds={},
    )
    with store.writing() as db:
        piece = pieces.add(db, "p", recipe)

        def renew(rest=20.0):
            return bakes.put_live(db, piece, "key", manifest, {}, 0.0, rest)

        def shown():
            return [(row.id, row.live) for row in bakes.of_piece(db, piece)]

        ids = [renew(), renew(), renew()]
        assert shown() == [(ids[2], True)]
        assert bakes.get(db, ids[1])  # its pictures may still be asked for
        assert bakes.get(db, ids[0]) is None
        assert bakes.count_done(db, piece) == 1
        bakes.keep(db, ids[2])
        ids.append(renew())
        assert shown() == [(ids[3], True), (ids[2], False)]
        ids.append(renew(rest=0.0))  # somebody stayed with the one before
        assert shown() == [(ids[4], True), (ids[3], False), (ids[2], False)]
        assert bakes.done_before(db, bakes.row_of(db, ids[4])) == ids[3]
        assert len(set(ids)) == len(ids)
        large = bakes.add(db, piece, recipe, "key")
        ids.append(renew())
        assert bakes.newest_done(db, piece).id == ids[-1]
        bakes.finish(db, large, manifest, {})  # begun before that proof, and ended after it
        assert bakes.newest_done(db, piece).id == large


def test_a_clock_that_is_set_back_takes_nothing_from_how_long_a_bake_took(store, monkeypatch):
    with store.writing() as db:
        bake_id = bakes.add(db, pieces.add(db, "p", Recipe()), Recipe(), "key")
        bakes.start(db, bake_id)
        now = time.time()
        monkeypatch.setattr(time, "time", lambda: now - 7200)
        bakes.end(db, bake_id, "failed", "it broke")
        bakes.took(db, bake_id, 9.0)
        assert bakes.row_of(db, bake_id).seconds == pytest.approx(9.0)


def test_one_look_at_a_clock_that_runs_ahead_removes_nothing_for_good(tmp_path, monkeypatch):
    """What was deleted ages by the days on which the store was open."""
    clock = [100.0 * disk.DAY]
    monkeypatch.setattr(time, "time", lambda: clock[0])
    with contextlib.closing(Store(tmp_path)) as store:
        with store.writing() as db:
            piece = pieces.add(db, "ring", Recipe())

        def opened(day):
            clock[0] = day * disk.DAY + 5.0
            store.remove_old(days=7)
            with store.reading() as db:
                return bool(disk.deleted_pieces(db))

        assert not opened(100)
        for day in range(101, 121):
            opened(day)
        with store.writing() as db:
            pieces.delete(db, piece)
        assert opened(120 + 365)  # a battery that ran out
        assert all(opened(day) for day in (*range(121, 127), 129))
        assert not opened(130)
