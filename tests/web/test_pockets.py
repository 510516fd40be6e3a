"""Pockets of the step Cage without a browser: added, changed, found among many."""

import re

from inkwell_cast.core.settings.regions import Pocket

from .helpers import listed, piece_id_of


def test_pockets_are_added_changed_and_removed(client, piece, services):
    def pockets():
        return services.pieces.get(piece_id_of(piece))[0].recipe.pockets

    client.post(f"{piece}/pockets", json={"x": 1, "y": 2, "z": 3})
    assert (pockets()[0].name, pockets()[0].centre, pockets()[0].outward) == ("Pocket 1", (1, 2, 3), 3)
    panel = client.post(
        listed(client, piece, "pockets"), data={"name": "hinge gap", "radius": "2.5", "rim": "0.2"}
    ).text
    assert "hinge gap" in panel
    assert (pockets()[0].radius, pockets()[0].centre) == (2.5, (1, 2, 3))
    refused = client.post(listed(client, piece, "pockets"), data={"radius": "-1"}).text
    assert "The last good value stays in force" in refused
    assert pockets()[0].radius == 2.5
    client.post(listed(client, piece, "pockets"), data={"x": "4", "y": "5", "z": "6"})
    assert pockets()[0].centre == (4, 5, 6)
    own = listed(client, piece, "pockets")
    client.post(f"{own}/out")
    assert pockets() == []
    for address in (own, f"{own}/out"):
        assert "no longer there" in client.post(address).json()["error"]


def test_ten_thousand_pockets_are_found_by_name_and_listed_some_at_a_time(client, piece, services):
    def many(recipe):
        return recipe.model_copy(update={"pockets": [Pocket(name=f"Gap {n}") for n in range(10_000)]})

    services.settings.change(piece_id_of(piece), "Many", many)
    panel = client.get(f"{piece}/panel/cage").text
    assert len(panel) < 100_000
    assert ("<b>Gap 49</b>" in panel, "<b>Gap 50</b>" in panel, "1 to 50 of 10\u202f000" in panel) == (
        True,
        False,
        True,
    )
    found = client.get(f"{piece}/pockets", params={"find": "gap 77", "first": 100}).text
    assert re.findall(r"<b>(Gap \d+)</b>", found)[0] == "Gap 7789"
    kept = client.post(listed(client, piece, "pockets"), params={"find": "gap 77", "first": 100}, data={"radius": "9"})
    assert "<b>Gap 7789</b>" in kept.text  # the same ones are listed after a change
    assert "None is called so" in client.get(f"{piece}/pockets", params={"find": "else"}).text
