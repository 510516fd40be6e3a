"""Maps that were made elsewhere, limits, and pictures from four sides, over the server."""

import cv2
import numpy as np
import pytest

from inkwell_cast.web.services import drawings

from .helpers import baked, ended


@pytest.fixture
def ruined(client, piece):
    """A bake's normal map as a PNG, of which a part was painted over."""
    facts = baked(client, piece)["facts"]
    data = client.get(f"{piece}/bakes/{facts['id']}/normal.png").content
    image = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
    image[10:30, 10:40] = image[10:30, 10:40, ::-1]
    return cv2.imencode(".png", image)[1].tobytes()


@pytest.mark.deep
def test_a_map_made_elsewhere_is_judged_listed_compared_and_not_handed_off(client, piece, ruined, services, tmp_path):
    answer = client.post(f"{piece}/bring-in", files={"pictures": ("rope<n>.png", ruined)}, data={"reading": "any"})
    assert answer.status_code == 200
    facts = ended(client, piece)["facts"]
    row = services.bakes.get(facts["id"])
    assert row.summary.brought
    assert row.manifest.seen.excess > 0.5
    assert [flaw.cause for flaw in row.manifest.flaws] == ["elsewhere"]
    panel = client.get(f"{piece}/panel/review").text
    assert "made elsewhere, read as tangent space, green up" in panel
    assert "lost by this map" in panel
    assert "Mend all" not in panel
    assert "struck nothing" not in panel
    assert facts["stale"] == ""
    assert "made elsewhere" in client.get(f"{piece}/drawer").text
    assert client.get(f"{piece}/bakes/{facts['id']}/normal.png").content  # views wear it like a bake's
    refused = client.post(f"{piece}/handoff", data={"place": str(tmp_path / "out"), "bake": facts["id"]})
    assert "made elsewhere" in refused.text
    assert "it has no settings" in client.post(f"{piece}/bakes/{facts['id']}/restore").text
    assert client.get(f"{piece}/drawer").text.count("Restore its settings") == 1  # the bake's
    place = {"kind": f"bake-{facts['id']}", "radius": "0.1", "x": 0, "y": 0, "z": 0}
    assert client.post(f"{piece}/mends/place", data=place).status_code == 404
    assert services.bakes.before(services.bakes.get(baked(client, piece)["facts"]["id"])).id != facts["id"]


def test_what_is_no_map_of_the_low_is_refused_by_its_name(client, piece):
    tile = cv2.imencode(".png", np.zeros((64, 64, 3), np.uint8))[1].tobytes()
    client.post(f"{piece}/bring-in", files={"pictures": ("black.png", tile)}, data={"reading": "any"})
    assert ended(client, piece)["state"] == "failed"
    drawer = client.get(f"{piece}/drawer").text
    assert "black.png: 100% of the texels under the low hold no normal" in drawer
    client.post(f"{piece}/bring-in", files={"pictures": ("words.png", b"no picture")}, data={"reading": "up"})
    assert ended(client, piece)["state"] == "failed"
    assert "words.png" in client.get(f"{piece}/drawer").text
    assert (
        client.post(f"{piece}/bring-in", files={"pictures": ("a.png", tile)}, data={"reading": "x"}).status_code == 422
    )


def test_limits_hold_on_the_page_in_the_manifest_and_are_refused_in_words(client, piece, services):
    refused = client.post(f"{piece}/settings/review", data={"limits.words": "men 5"}).text
    assert "“men 5” is no limit" in refused
    client.post(f"{piece}/settings/review", data={"limits.words": "mean 0.01, missed 0"})
    row = services.bakes.get(baked(client, piece)["facts"]["id"])
    assert row.manifest.beyond[0].startswith("mean is")
    assert row.summary.beyond == 1
    assert "Beyond a limit: mean is" in client.get(f"{piece}/panel/review").text
    panel = client.post(f"{piece}/settings/review", data={"limits.words": "mean 90"}).text
    assert "Within its limits: mean 90" in panel  # at once, with no other bake
    assert "Settings changed since this bake" not in panel


@pytest.mark.deep
def test_the_shelf_shows_the_sculpt_and_then_the_low_with_its_map(client, piece, services):
    def picture():
        answer = client.get(f"{piece}/lit.png")
        assert answer.status_code == 200
        return cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_UNCHANGED)

    sculpt = picture()
    assert 200 < max(sculpt.shape) <= 256
    assert (sculpt[..., 3].max(axis=0) > 0).all()  # nothing empty around it
    assert (sculpt[..., 3].max(axis=1) > 0).all()
    facts = baked(client, piece)["facts"]
    worn = picture()
    assert worn.tobytes() != sculpt.tobytes()
    for name in ("sculpt", "low", "heat"):
        assert client.get(f"{piece}/bakes/{facts['id']}/sides.{name}.png").status_code == 200
    assert "From four sides" in client.get(f"{piece}/panel/review").text
    assert f'data-from="{piece}/lit.png' in client.get("/").text


@pytest.mark.deep
def test_a_large_piece_is_not_drawn_for_its_card_before_its_first_bake(client, piece, monkeypatch):
    monkeypatch.setattr(drawings, "HUGE", 100)
    refused = client.get(f"{piece}/lit.png")
    assert refused.status_code == 422
    assert "drawn with its first bake" in refused.text
    baked(client, piece)
    assert client.get(f"{piece}/lit.png").status_code == 200


@pytest.mark.deep
def test_two_bakes_of_a_size_can_be_seen_as_better_and_worse(client, piece):
    first = baked(client, piece)["facts"]
    assert "difference" not in first["maps"]
    client.post(f"{piece}/settings/cage", data={"reach.outward": "0.001", "reach.inward": "0.001"})
    second = baked(client, piece)["facts"]
    assert second["labels"]["difference"] == "Better and worse"
    answer = client.get(f"{piece}/bakes/{second['id']}/difference.png")
    image = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR).astype(int)
    assert (image[..., 2] > image[..., 1] + 30).any()  # red: rays fall short now
    assert client.get(f"{piece}/bakes/{first['id']}/difference.png").status_code == 404
