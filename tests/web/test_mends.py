"""Flaws, mends and the history of bakes over the server."""

import re

import cv2
import numpy as np
import pytest

from inkwell_cast.core.mesh.binary_message import unpack
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.regions import Pocket

from .helpers import baked, ended, listed, piece_id_of


@pytest.fixture
def short(client, piece):
    """The address of a bake whose rays fall short, and of its flaws."""
    return f"{piece}/bakes/1"


def recipe_of(services, piece):
    return services.pieces.get(piece_id_of(piece))[0].recipe


def test_a_flaw_that_no_setting_cures_says_so(client, piece, services, facts):
    assert [flaw.cause for flaw in services.bakes.get(facts["id"]).manifest.flaws] == ["wavy"]  # a ring of few sides
    panel = client.get(f"{piece}/panel/review").text
    assert "In the modelling program" in panel
    assert "Mend all" not in panel


def test_flaws_are_listed_and_their_texels_hatched(client, piece, short):
    assert "and the sculpt" in client.get(f"{piece}/panel/review").text
    header, arrays = unpack(np.frombuffer(client.get(f"{short}/flaws/0/marks").content, np.uint8))
    assert (header["title"], header["low"]) == ("Sculpt outside the cage", True)
    assert arrays["corners"].shape == (*arrays["uvs"].shape[:2], 3)
    assert client.get(f"{short}/flaws/99/marks").status_code == 404


def test_a_mend_is_kept_switched_and_removed(client, piece, short, services):
    answer = client.post(f"{short}/flaws/0/mend")
    assert "kept among the mends" in answer.text
    assert "Settings changed since this bake" in re.sub(r"\s+", " ", answer.text)
    assert "cage-changed" in answer.headers["HX-Trigger"]
    (mend,) = recipe_of(services, piece).mends
    assert mend.cause == "outside"
    client.post(f"{short}/flaws/0/mend")  # a second time is the same
    assert len(recipe_of(services, piece).mends) == 1
    client.post(listed(client, piece, "mends") + "/switch", params={"on": False})
    assert not recipe_of(services, piece).mends[0].on
    client.post(listed(client, piece, "mends") + "/out")
    assert recipe_of(services, piece).mends == []
    client.post(f"{piece}/step-back", params={"step": "review", "by": -1})
    assert len(recipe_of(services, piece).mends) == 1
    for address in (f"{short}/flaws/99/mend", f"{short}/flaws/0/mend?choice=9", f"{short}/flaws/99/try"):
        assert client.post(address).status_code == 404
    assert client.post(f"{piece}/mends/7/out").status_code == 422


def test_a_mend_is_tried_out_without_changing_a_setting(client, piece, short, services):
    missed = services.bakes.get(int(short.rsplit("/", 1)[1])).manifest.missed_texels
    client.post(f"{short}/flaws/0/try")
    busy = client.post(f"{piece}/mend-all")
    facts = ended(client, piece)["facts"]
    if busy.status_code == 422:  # unless the first had ended already
        assert "Another one is at work" in busy.json()["error"]
    assert recipe_of(services, piece).mends == []
    row = services.bakes.get(facts["id"])
    assert row.trial.pockets
    assert row.manifest.missed_texels < missed
    assert facts["stale"] == ""  # it is what was asked for
    panel = client.get(f"{piece}/panel/review").text
    assert "Tried out" in panel
    client.post(f"{piece}/bakes/{facts['id']}/keep")
    assert recipe_of(services, piece).mends == [row.trial]
    assert "Tried out" not in client.get(f"{piece}/panel/review").text
    assert client.post(f"{piece}/bakes/{facts['id']}/keep").status_code == 422


def test_a_trial_that_looks_worse_says_so_first_and_offers_to_take_it_back(client, piece, facts, services):
    nothing = Pocket(centre=(0, 0, 0), radius=1e3, outward=0, inward=0)  # rays of no length
    services.bakes.start(piece_id_of(piece), False, trial=Mend(words="Place a pocket", pockets=[nothing]))
    ended(client, piece)
    trial = client.get(f"{piece}/panel/review").text.partition('id="trial"')[2]
    assert trial.index("It looks worse with it") < trial.index("Tried out:")
    assert re.search(r'class="button primary"[^>]*>Take it back', trial)
    assert not re.search(r'class="button primary"[^>]*>Keep it', trial)


def test_all_is_mended_in_one_go_and_taken_back_by_one_undo(client, piece, short, services):
    client.post(f"{piece}/mend-all", params={"proof": False})
    facts = ended(client, piece)["facts"]
    row = services.bakes.get(facts["id"])
    report = row.manifest.mending
    assert report.weight[1] < report.weight[0]
    assert report.seen[1] <= report.seen[0]
    assert recipe_of(services, piece).mends == row.recipe.mends != []
    assert facts["stale"] == ""
    assert "did good and were kept" in client.get(f"{piece}/panel/review").text
    client.post(f"{piece}/step-back", params={"step": "review", "by": -1})
    assert recipe_of(services, piece).mends == []


def test_bakes_are_named_restored_and_thrown_away(client, piece, short, services):
    number = int(short.rsplit("/", 1)[1])
    assert "dull" in client.post(f"{short}/name", data={"name": " dull "}).text
    assert client.get(f"{short}/facts").json()["name"] == "dull"
    client.post(f"{piece}/settings/cage", data={"reach.outward": "0.5"})
    client.post(f"{short}/restore")
    assert recipe_of(services, piece).reach.outward == 0.001
    used = services.bakes.disk_use([number])
    files = [p for p in services.store.files.folder.rglob("*") if p.is_file()]
    assert used[number] > 0
    answer = client.post(f"{short}/out")
    assert "bakes-changed" in answer.headers["HX-Trigger"]
    assert services.bakes.get(number) is None
    services.disk.empty()
    assert len([p for p in services.store.files.folder.rglob("*") if p.is_file()]) < len(files)
    assert client.post(f"{short}/out").status_code == 404


@pytest.mark.deep
def test_a_proof_gives_back_all_but_its_size(client, piece, services):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "1024", "sheet.height": "1024"})
    client.post(f"{piece}/bake", params={"proof": True})
    facts = ended(client, piece)["facts"]
    client.post(f"{piece}/settings/maps", data={"basis.green": "down"})
    client.post(f"{piece}/bakes/{facts['id']}/restore")
    found = recipe_of(services, piece)
    assert (found.basis.green, found.sheet.width) == ("up", 1024)


def test_a_straightening_picture_is_taken_shown_and_removed(client, piece, services):
    grey = cv2.imencode(".png", np.full((16, 16), 128, np.uint8))[1].tobytes()
    answer = client.post(f"{piece}/straighten-picture", files={"picture": ("grey.png", grey)})
    assert "The picture in force" in answer.text
    assert "cage-changed" in answer.headers["HX-Trigger"]
    assert recipe_of(services, piece).straight_picture
    refused = client.post(f"{piece}/straighten-picture", files={"picture": ("poem.txt", b"roses")})
    assert "poem.txt: It is no picture" in refused.json()["error"]
    client.post(f"{piece}/straighten-picture/out")
    assert recipe_of(services, piece).straight_picture == ""


def test_a_place_is_mended_by_hand(client, piece, short, services):
    number = short.rsplit("/", 1)[1]
    client.post(f"{piece}/settings/cage", data={"reach.unit": "percent", "reach.outward": "5", "reach.inward": "5"})
    at = {"x": 2.7, "y": 0, "z": 0, "radius": "0.4"}
    for kind in ("heal", "averaged", "split", f"bake-{number}", "edges-split"):
        assert "kept among the mends" in client.post(f"{piece}/mends/place", data=at | {"kind": kind}).text
    mends = recipe_of(services, piece).mends
    assert [(len(mend.heals), len(mend.patches)) for mend in mends] == [(1, 0), (0, 1), (0, 1), (0, 1), (0, 0)]
    assert mends[4].creases[0].directions == "split"
    assert mends[3].patches[0].outward == pytest.approx(0.001)
    facts = baked(client, piece)["facts"]
    assert services.bakes.get(facts["id"]).manifest.maps
    refused = client.post(f"{piece}/mends/place", data=at | {"kind": "heal", "radius": "wide"})
    assert "“wide” is none" in refused.json()["error"]
    assert client.post(f"{piece}/mends/place", data=at | {"kind": "bake-999"}).status_code == 404
    assert client.post(f"{piece}/mends/place", data=at | {"kind": "sing"}).status_code == 404


def test_all_flaws_of_a_kind_are_mended_as_one_change(client, piece, short, services):
    flaws = services.bakes.get(1).manifest.flaws
    alike = [flaw for flaw in flaws if flaw.kind == flaws[0].kind]
    assert f"Mend {len(alike)} of the kind" in client.post(f"{short}/flaws/0/mend-kind").text
    assert len(recipe_of(services, piece).mends) == len(alike)
    client.post(f"{piece}/step-back", params={"step": "review", "by": -1})
    assert recipe_of(services, piece).mends == []
    assert client.post(f"{short}/flaws/99/mend-kind").status_code == 404
