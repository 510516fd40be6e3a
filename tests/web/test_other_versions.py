"""Rows that another version wrote, or that are out of range: each piece stands for itself, and nothing is rewritten."""

import json

import pytest

from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.store import pieces

ROWS = {
    "a newer version": ({"settle": {"limit": 1}, "reach": {"shade": "soft"}}, "reach.shade, settle is not known here"),
    "out of range": ({"sheet": {"width": 99_999}}, "sheet.width 99999"),
    "a list in place of a group": ({"reach": [1, 2]}, "reach [1, 2]"),
}


@pytest.fixture(params=ROWS)
def odd(request, piece, services):
    """Settings that this version cannot use, in the row of a second piece; their text, and what is said of them."""
    values, said = ROWS[request.param]
    text = json.dumps(Recipe().model_dump(mode="json") | values)
    with services.store.writing() as db:
        piece_id = pieces.add(db, "Odd", Recipe())
        db.execute("UPDATE change SET recipe = ? WHERE piece_id = ?", (text, piece_id))
    return f"/pieces/{piece_id}", text, said


def texts(services, address):
    with services.store.reading() as db:
        rows = db.execute("SELECT recipe FROM change WHERE piece_id = ?", (int(address.rsplit("/", 1)[1]),))
        return [row["recipe"] for row in rows]


def test_it_is_listed_and_the_others_are_as_usual(client, piece, odd, services):
    address, text, said = odd
    shelf = client.get("/").text
    assert said in shelf
    assert f'href="{piece}"' in shelf
    assert f'href="{address}"' not in shelf
    assert client.get("/disk").status_code == 200
    assert client.get(piece).status_code == 200
    for path in ("", "/state", "/panel/cage"):
        answer = client.get(f"{address}{path}")
        assert answer.status_code == 409
        assert said in answer.json()["error"]
    assert texts(services, address) == [text]


def test_it_is_opened_as_far_as_it_is_known_and_what_it_was_is_kept(client, odd, services):
    address, text, _ = odd
    assert client.post(f"{address}/as-known").status_code == 303
    assert client.get(address).status_code == 200
    assert texts(services, address)[0] == text


def test_it_is_deleted_and_brought_back(client, odd, services):
    address, text, said = odd
    client.post(f"{address}/delete")
    assert said not in client.get("/").text
    client.post("/disk/back", data={"piece": address.rsplit("/", 1)[1]})
    assert texts(services, address) == [text]
