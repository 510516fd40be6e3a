"""Whatever figures are told of one bake come from one computation, wherever the page, the shelf or the API tell them."""

import re

import pytest

from .helpers import baked

STEPS = ("meshes", "cage", "basis", "maps", "review", "handoff")


@pytest.mark.parametrize("outward", ["1.5", "40"])
def test_every_panel_tells_the_same_of_a_bake(client, piece, services, outward):
    client.post(f"{piece}/settings/cage", data={"reach.outward": outward})
    facts = baked(client, piece)["facts"]
    manifest = services.bakes.get(facts["id"]).manifest
    seen, best, flaws = manifest.seen.bake.mean, manifest.seen.best.mean, manifest.number_of_flaws
    pages = {step: client.get(f"{piece}/panel/{step}").text for step in STEPS}
    pages |= {"drawer": client.get(f"{piece}/drawer").text, "shelf": client.get("/").text}
    told = {
        name: re.findall(r"(\d+\.\d+)°(?:</strong>|<br>)?\s*(?:<span>mean angle|as seen)", text)
        for name, text in pages.items()
    }
    assert sum(map(len, told.values())) >= 3
    assert {value for values in told.values() for value in values} == {f"{seen:.2f}"}, told
    counted = {name: re.findall(r"(\d+) flaws?\b", text) for name, text in pages.items()}
    assert {value for values in counted.values() for value in values} <= {str(flaws)}, counted
    assert (facts["seen"], facts["flaws"]) == (seen, flaws)
    assert re.search(r"<h2>Flaws <small>(\d*)", pages["review"])[1] == (str(flaws) if flaws else "")
    (floor,) = re.findall(r"([\d.]+)° is the best on this low", pages["review"])
    yours = re.findall(r"([\d.]+)° is yours to mend", pages["review"])
    assert floor == f"{best:.2f}"
    assert round(float(floor) + float(yours[0] if yours else 0), 2) == pytest.approx(float(f"{seen:.2f}"), abs=0.0051)
