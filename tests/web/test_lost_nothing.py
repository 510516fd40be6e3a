"""Two tabs, clients that go away, full disks, things deleted by mistake, long histories."""

import sqlite3
import threading
import time
from typing import get_args

import httpx
import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.engine.messages import BakeInto, Job, Load
from inkwell_cast.store import bakes
from inkwell_cast.web.services import at_work

from .helpers import listed, piece_id_of


def shown(step, tab):
    return {"X-Shown-Step": str(step), "X-Tab": tab}


def step_of(services, piece):
    return services.pieces.get(piece_id_of(piece))[0].step


def recipe_of(services, piece):
    return services.pieces.get(piece_id_of(piece))[0].recipe


def test_a_stale_tab_keeps_what_another_one_set_and_says_so(client, piece, services):
    seen = step_of(services, piece)
    client.post(f"{piece}/settings/maps", data={"sheet.width": "128", "sheet.height": "48"}, headers=shown(seen, "a"))
    form = {"sheet.width": "64", "sheet.height": "96"}  # the whole form, as the second tab shows it
    said = client.post(f"{piece}/settings/maps", data=form, headers=shown(seen, "b")).text
    assert (recipe_of(services, piece).sheet.width, recipe_of(services, piece).sheet.height) == (128, 96)
    assert "Meanwhile changed elsewhere, and shown now: sheet, width" in said
    said = client.post(f"{piece}/settings/maps", data={"sheet.width": "256"}, headers=shown(seen, "b")).text
    assert recipe_of(services, piece).sheet.width == 128
    assert "Not changed here, since it was changed elsewhere too: sheet, width" in said


def test_a_tab_does_not_collide_with_itself(client, piece, services):
    seen = step_of(services, piece)
    for width in (128, 256, 512):  # faster than the page is drawn anew
        client.post(f"{piece}/settings/maps", data={"sheet.width": str(width)}, headers=shown(seen, "a"))
    assert recipe_of(services, piece).sheet.width == 512


def test_a_change_that_was_overtaken_on_its_way_takes_back_nothing(client, piece, services):
    """Both fields are typed before the first answer; the form that holds only the first of them arrives last."""
    seen = step_of(services, piece)
    both, first = {"sheet.width": "128", "sheet.height": "256"}, {"sheet.width": "128", "sheet.height": "64"}
    client.post(f"{piece}/settings/maps", data=both, headers=shown(seen, "a") | {"X-Turn": "8"})
    said = client.post(f"{piece}/settings/maps", data=first, headers=shown(seen, "a") | {"X-Turn": "7"}).text
    assert (recipe_of(services, piece).sheet.width, recipe_of(services, piece).sheet.height) == (128, 256)
    assert "changed elsewhere" not in said
    back = first | {"sheet.height": "64"}
    client.post(f"{piece}/settings/maps", data=back, headers=shown(step_of(services, piece), "a") | {"X-Turn": "9"})
    assert recipe_of(services, piece).sheet.height == 64


@pytest.mark.parametrize("tab", ["a", "b"])
def test_a_pocket_is_removed_once_however_often_it_is_asked_for(client, piece, services, tab):
    """By a second click before the first was answered, or by another tab that still shows it."""
    for n in range(3):
        client.post(f"{piece}/pockets", json={"x": n, "y": 0, "z": 0})
    seen, first = step_of(services, piece), listed(client, piece, "pockets")
    client.post(f"{first}/out", headers=shown(seen, "a"))
    again = client.post(f"{first}/out", headers=shown(seen, tab))
    assert [p.centre[0] for p in recipe_of(services, piece).pockets] == [1, 2]
    assert again.status_code == (422 if tab == "a" else 200)  # the other tab's wish is fulfilled


def test_what_was_changed_on_an_older_state_finds_what_it_was_meant_for(client, piece, services):
    """A page that shows one pocket, and a change of the second of three, which it has not heard of."""
    client.post(f"{piece}/pockets", json={"x": 0, "y": 0, "z": 0})
    seen = step_of(services, piece)
    for n in (1, 2):
        client.post(f"{piece}/pockets", json={"x": n, "y": 0, "z": 0})
    answer = client.post(listed(client, piece, "pockets", 2), data={"radius": "9"}, headers=shown(seen, "b"))
    assert answer.status_code == 422
    assert "no longer there" in answer.json()["error"]


def test_no_change_is_lost_among_many_at_once(client, piece, services):
    def add(n):
        httpx.post(f"{str(client.base_url).rstrip(chr(47))}{piece}/pockets", json={"x": n, "y": 0, "z": 0}, timeout=60)

    threads = [threading.Thread(target=add, args=(n,)) for n in range(30)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(p.centre[0] for p in recipe_of(services, piece).pockets) == list(range(30))


def test_a_state_that_is_forgotten_is_told(client, piece, services):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "96"})
    with services.store.writing() as db:
        db.execute("DELETE FROM change WHERE step < (SELECT step FROM piece)")
    answer = client.post(f"{piece}/settings/maps", data={"sheet.width": "128"}, headers=shown(0, "b"))
    assert answer.status_code == 422
    assert "Reload the page" in answer.json()["error"]


def test_a_client_that_goes_away_stops_the_reading_of_its_file(client, services, monkeypatch):
    stopped = threading.Event()

    class Slow:
        def __init__(self):
            from concurrent.futures import Future

            self.future = Future()

        def stop(self, patient=False):
            stopped.set()
            self.future.cancel()

    monkeypatch.setattr(services.engine, "submit", lambda *job: Slow())
    with pytest.raises(httpx.ReadTimeout):
        client.put("/uploads", params={"name": "ring_low.obj"}, content=b"v 0 0 0\n", timeout=0.5)
    assert stopped.wait(5)


def test_a_piece_and_its_bakes_are_brought_back(client, piece, services, facts):
    bake_id = facts["id"]
    client.post(f"{piece}/bakes/{bake_id}/out")
    page = client.get("/disk").text
    assert "1 bake of Ring" in page
    client.post("/disk/back", data={"piece": piece_id_of(piece), "moment": moment_in(services)})
    assert services.bakes.get(bake_id)
    client.post(f"{piece}/delete")
    assert client.get(piece).status_code == 404
    assert client.post("/disk/back", data={"piece": piece_id_of(piece)}).status_code == 200
    assert client.get(piece).status_code == 200
    assert client.post("/disk/back", data={"piece": "7" * 30}).status_code == 422


def moment_in(services):
    with services.store.reading() as db:
        return db.execute("SELECT deleted FROM bake WHERE deleted IS NOT NULL").fetchone()[0]


def test_what_is_removed_for_good_frees_its_disk_at_once(client, piece, services, facts):
    files = [path for path in services.store.files.folder.glob("??/*") if path.is_file()]
    assert files
    client.post(f"{piece}/delete")
    assert "freed" in client.post("/disk/empty").text
    assert not [path for path in services.store.files.folder.glob("??/*") if path.is_file()]


@pytest.mark.deep
def test_only_the_newest_proofs_are_kept_on_wish(client, piece, services):
    for _ in range(3):
        services.bakes.start(piece_id_of(piece), True)
        while services.pieces.wanted(piece_id_of(piece))[2][0].open:
            time.sleep(0.02)
    assert "2 proofs were deleted" in client.post("/disk/proofs", data={"kept": "1"}).text
    assert services.bakes.newest(piece_id_of(piece))[1] == 1
    assert client.post("/disk/proofs", data={"kept": "-1"}).status_code == 422


def test_a_result_waits_for_room_on_a_full_disk(client, piece, services, monkeypatch):
    full = threading.Event()
    full.set()
    finish = bakes.finish

    def once_there_is_room(*values):
        if full.is_set():
            raise sqlite3.OperationalError("database or disk is full")
        finish(*values)

    monkeypatch.setattr("inkwell_cast.web.services.bakes.TRY_AGAIN_EVERY", 0.05)
    monkeypatch.setattr(bakes, "finish", once_there_is_room)
    bake_id = services.bakes.start(piece_id_of(piece), True)
    time.sleep(2)
    assert services.bakes.get(bake_id).open
    full.clear()
    for _ in range(200):
        if not services.bakes.get(bake_id).open:
            break
        time.sleep(0.05)
    assert services.bakes.get(bake_id).state == "done"
    assert client.get(f"{piece}/bakes/{bake_id}/normal.png").status_code == 200


@pytest.mark.deep
def test_a_history_of_a_thousand_bakes_costs_nothing(client, piece, services, facts):
    with services.store.writing() as db:
        for _ in range(300):
            db.execute(
                "INSERT INTO bake SELECT NULL, piece_id, state, meshes, stage, share, message, created, started, "
                "ended, name, proof, trial, summary, deleted, live FROM bake WHERE id = ?",
                (facts["id"],),
            )
        db.execute("INSERT INTO bake_contents SELECT id, 'unread', 'unread' FROM bake WHERE id != ?", (facts["id"],))
        newest = db.execute("SELECT max(id) FROM bake").fetchone()[0]
        db.execute(
            "UPDATE bake_contents SET (recipe, manifest) = (SELECT recipe, manifest FROM bake_contents "
            "WHERE bake_id = :a) WHERE bake_id = :b",
            {"a": facts["id"], "b": newest},
        )
    assert client.get(f"{piece}/bakes/{facts['id']}/texel", params={"x": 20, "y": 10}).status_code == 200
    page = client.get(f"{piece}/drawer").text
    assert page.count("data-compare") == 12
    assert "All 301 bakes" in page
    assert client.get(f"{piece}/drawer?all=true").text.count("data-compare") == 301
    assert client.get("/").status_code == 200


def test_a_deleted_piece_cannot_be_changed(client, piece, services):
    client.post(f"{piece}/delete")
    with pytest.raises(InputProblem, match="no longer on the shelf"):
        services.settings.change(piece_id_of(piece), "x", lambda recipe: recipe)


def test_every_job_that_a_list_can_show_has_a_name():
    quick = {job for job in get_args(Job) if job.QUICK}  # never listed
    named = {Load, BakeInto, *quick, *at_work.NAMES}  # the first two are called by what they do
    assert set(get_args(Job)) <= named
