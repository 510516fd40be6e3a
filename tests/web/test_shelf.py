"""The shelf of a studio: many pieces, by pages and by name; and requests that must never be a fault of the server."""

import asyncio
import re

import pytest
from starlette.testclient import TestClient

from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.store import pieces
from inkwell_cast.web.app import create_app
from inkwell_cast.web.routes.shelf import A_PAGE

MANY = 2 * A_PAGE + 5


@pytest.fixture
def many(services):
    with services.store.writing() as db:
        for n in range(MANY):
            pieces.add(db, f"Cask {n:03} 100%" if n % 10 == 0 else f"Anvil {n:03}", Recipe())


def named(page):
    return re.findall(r'class="card-name" title="([^"]*)"', page)


def test_a_page_of_the_shelf_holds_so_many_and_the_last_the_rest(client, many):
    first, last, beyond = (client.get("/", params={"page": page}).text for page in (1, 3, 99))
    assert len(named(first)) == A_PAGE
    assert named(first)[0] == f"Cask {MANY - 1} 100%"
    assert len(named(last)) == 5
    assert named(beyond) == named(last)
    assert 'rel="prev"' not in first
    assert 'rel="next"' not in last
    everything = [name for page in (1, 2, 3) for name in named(client.get("/", params={"page": page}).text)]
    assert len(set(everything)) == MANY


def test_pieces_are_found_by_part_of_their_name_taken_as_it_is_written(client, many):
    casks = [f"Cask {n:03} 100%" for n in range(0, MANY, 10)]
    assert named(client.get("/", params={"q": " cASK ", "order": "name"}).text) == casks
    assert len(named(client.get("/", params={"q": "100%"}).text)) == len(casks)
    assert named(client.get("/", params={"q": "1__"}).text) == []
    none = client.get("/", params={"q": "<script>"}).text
    assert "0 found" in none
    assert "<script>alert" not in none
    assert client.get("/", params={"page": 0}).status_code == 422


def test_a_program_asks_for_pieces_by_pages(services, many):
    token = services.api_tokens.let_in("Lister")
    api = TestClient(
        create_app(services), base_url="http://127.0.0.1:8734", headers={"Authorization": f"Bearer {token}"}
    )
    answer = api.get("/api/1/pieces", params={"search": "cask", "limit": 4, "offset": 8})
    assert (len(answer.json()), answer.headers["x-total-count"]) == (3, "11")
    assert api.get("/api/1/pieces", params={"limit": 0}).status_code == 422


@pytest.mark.parametrize("number", [2**63, 2**70, 10**40])
def test_a_number_that_no_database_holds_is_of_no_piece(client, number):
    for address in (f"/pieces/{number}", f"/pieces/{number}/state", f"/pieces/{number}/panel/cage"):
        assert client.get(address).status_code == 404, address
    assert client.post(f"/pieces/{number}/delete").status_code in {303, 404}


@pytest.mark.parametrize("body", ['{"share": 1e999}', '{"settings": {"reach": {"outward": 1e999}}}', "[1e999]", "{"])
def test_a_body_that_is_no_body_is_refused_in_words(client, piece, body):
    headers = {"Content-Type": "application/json"}
    for address in ("/pieces", "/uploads/roles", f"{piece}/nudges", f"{piece}/meshes"):
        answer = client.post(address, content=body, headers=headers)
        assert (answer.status_code, list(answer.json())) == (422, ["error"]), (address, answer.text)
    assert client.put("/uploads/from", content=body, headers=headers).status_code == 422


def test_wrong_tokens_wait_one_after_the_other_and_a_right_one_waits_for_none(services, monkeypatch):
    token, slept = services.api_tokens.let_in("Desk"), list[float]()

    async def note(seconds):
        slept.append(seconds)

    monkeypatch.setattr(asyncio, "sleep", note)
    api = TestClient(create_app(services), base_url="http://127.0.0.1:8734")
    assert api.get("/api/1/pieces", headers={"Authorization": f"Bearer {token}"}).status_code == 200
    assert slept == []
    for guess in ("a", "b"):
        assert api.get("/api/1/pieces", headers={"Authorization": f"Bearer {guess}"}).status_code == 401
    assert len(slept) == 2
    assert min(slept) > 0.1


def test_an_upload_becomes_part_of_one_piece_however_often_it_is_asked(client, piece, ring_files):
    path = ring_files[0]
    token = client.put("/uploads", params={"name": path.name}, content=path.read_bytes()).json()["token"]
    first, second = (client.post(f"{piece}/meshes", json={"token": token}) for _ in range(2))
    assert first.status_code == 200, first.text
    assert second.status_code == 422
    assert "no longer known" in second.json()["error"]
