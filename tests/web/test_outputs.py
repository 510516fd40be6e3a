"""What leaves the program through the pages: maps in other formats and in another basis."""

import io
import zipfile

import cv2
import numpy as np
import pytest

from inkwell_cast.core.mesh.binary_message import unpack_header
from inkwell_cast.core.settings.map_names import MAPS

from .helpers import baked, piece_id_of


def test_a_normal_map_from_elsewhere_comes_back_in_the_piece_s_basis(client, piece, facts):
    given = client.get(f"{piece}/bakes/{facts['id']}/normal.png").content
    client.post(f"{piece}/settings/basis", data={"basis.green": "down"})
    answer = client.post(f"{piece}/convert", params={"source": "tangent-up"}, files={"picture": ("mine.png", given)})
    assert 'filename="mine_down.png"' in answer.headers["Content-Disposition"]
    a, b = (
        cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED).astype(int)
        for data in (given, answer.content)
    )
    np.testing.assert_allclose(a[..., 1], 255 - b[..., 1], atol=2)
    assert client.post(f"{piece}/convert", files={"picture": ("a.gif", b"x")}).status_code == 422
    assert (
        client.get("/basis-sample.png", params={"stored": "up", "read": "down"}).headers["content-type"] == "image/png"
    )


@pytest.mark.deep
def test_maps_in_another_format_are_handed_on_with_previews_for_the_views(client, piece):
    client.post(f"{piece}/settings/maps", data={"output.format": "exr", "output.maps": ["", "normal", "height"]})
    facts = baked(client, piece)["facts"]
    assert facts["maps"] == ["normal", "height", "likeness", "parallax"]
    file = client.get(f"{piece}/bakes/{facts['id']}/height.file")
    assert file.headers["content-disposition"].endswith('.exr"')
    assert file.content[:4] == bytes([0x76, 0x2F, 0x31, 0x01])
    assert client.get(f"{piece}/bakes/{facts['id']}/height.png").content[:4] == b"\x89PNG"
    archive = zipfile.ZipFile(io.BytesIO(client.get(f"{piece}/bakes/{facts['id']}/all.zip").content))
    assert set(archive.namelist()) == {"normal.exr", "height.exr", "manifest.json"}
    assert "half" in client.get(f"{piece}/panel/maps").text


def test_pictures_are_mixed_into_one(client):
    grey = cv2.imencode(".png", np.full((16, 16), 128, np.uint8))[1].tobytes()
    pictures = [("pictures", (name, grey)) for name in ("a.png", "b.png")]
    answer = client.post("/mix", params={"kind": "multiply"}, files=pictures)
    assert cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_UNCHANGED)[3, 3].max() == 64
    assert "1 pictures" in client.post("/mix", params={"kind": "detail"}, files=pictures[:1]).json()["error"]
    assert client.post("/mix", params={"kind": "stir"}, files=pictures).status_code == 422


def drawn_low(client, piece, tmp_path):
    path = tmp_path / "low"
    path.write_bytes(client.get(f"{piece}/views/low").content)
    return unpack_header(path)


def test_a_displaced_low_is_drawn_offered_and_told_of(client, piece, tmp_path):
    before = drawn_low(client, piece, tmp_path)
    assert client.get(f"{piece}/export/displaced.obj").status_code == 422
    fields = {"output.maps": ["", "normal", "displacement"], "subdivision.scheme": "loop", "subdivision.levels": "1"}
    answer = client.post(f"{piece}/settings/maps", data=fields)
    assert "low-changed" in answer.headers["HX-Trigger"]
    after = drawn_low(client, piece, tmp_path)
    assert after["triangles"] == 4 * before["triangles"]
    assert after["arrays"]["wire"]["shape"] == [3 * before["triangles"], 2]  # the lines that the artist knows
    baked(client, piece)
    panel = client.get(f"{piece}/panel/maps").text
    assert "off the displaced low" in panel
    assert client.get(f"{piece}/export/displaced.obj").text.count("\nf ") == after["triangles"]


@pytest.mark.deep
def test_the_views_get_a_smaller_copy_of_a_map_that_no_screen_can_draw(client, piece):
    client.post(f"{piece}/settings/maps", data={"sheet.width": "4096", "sheet.height": "16"})
    facts = baked(client, piece)["facts"]
    for most, width in ((8192, 4096), (2048, 2048)):
        data = client.get(f"{piece}/bakes/{facts['id']}/normal.png", params={"most": most}).content
        assert cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR).shape[1] == width


def test_a_running_bake_shows_how_far_its_map_is(client, services, piece, tmp_path):
    facts = baked(client, piece)["facts"]
    address = f"{piece}/bakes/{facts['id']}/peek.png"
    assert client.get(address).status_code == 204
    services.bakes._folders[facts["id"]] = tmp_path
    assert services.bakes.peek_at(facts["id"]) == ""
    (tmp_path / "peek.png").write_bytes(client.get(f"{piece}/bakes/{facts['id']}/normal.png").content)
    assert client.get(address).content[:4] == b"\x89PNG"
    assert services.bakes.peek_at(facts["id"]).isdigit()
    assert client.get(f"{piece}/bakes/9999/peek.png").status_code == 404


def test_the_likeness_is_a_picture_and_a_figure_at_the_pointer_and_by_pair(client, piece, facts):
    assert facts["maps"][-2:] == ["likeness", "parallax"]
    assert (facts["labels"]["likeness"], facts["labels"]["parallax"]) == ("Likeness", "Parallax")
    data = client.get(f"{piece}/bakes/{facts['id']}/likeness.png").content
    picture = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR)
    assert picture.shape == (48, 64, 3)
    shown = client.get(f"{piece}/bakes/{facts['id']}/texel", params={"x": 30, "y": 20}).json()["maps"]["likeness"]
    assert 0 < float(shown.rstrip("°")) < 20  # as seen: the low is coarse
    manifest = client.get(f"{piece}/bakes/{facts['id']}/manifest.json").json()
    assert manifest["pairs"][0]["likeness"] == manifest["maps"][0]["likeness"]
    assert manifest["pairs"][0]["seen"]["bake"] == manifest["seen"]["bake"]
    assert "Show it on the model" in client.get(f"{piece}/panel/review").text
    archive = zipfile.ZipFile(io.BytesIO(client.get(f"{piece}/bakes/{facts['id']}/all.zip").content))
    assert "likeness.png" not in archive.namelist()  # for looking only


def test_maps_are_chosen_by_sets_of_which_one_s_own_are_kept(client, piece, services):
    """Chosen ones stand on top, the others by what they are for."""

    def chosen():
        return services.pieces.get(piece_id_of(piece))[0].recipe.output.maps

    panel = client.post(f"{piece}/map-sets/choose", params={"name": "texturing"}).text
    assert chosen() == ["normal", "normal_object", "occlusion", "curvature", "thickness", "position", "ids"]
    top = panel[panel.index('class="maps chosen"') : panel.index('class="map-group"')]
    assert [key for key in MAPS if f'name="output.maps" value="{key}"' in top] == chosen()
    assert panel.count('name="output.maps" value="') == len(MAPS) + 1  # each once, and the hidden one
    assert "kept as “mine”" in client.post(f"{piece}/map-sets", data={"name": "mine"}).text
    client.post(f"{piece}/map-sets/choose", params={"name": "shaded"})
    assert chosen() == ["normal", "occlusion"]
    client.post(f"{piece}/map-sets/choose", params={"name": "mine"})
    assert len(chosen()) == 7
    assert "Forget the set mine" in client.get(f"{piece}/panel/maps").text
    assert "Forget the set mine" not in client.post(f"{piece}/map-sets/out", params={"name": "mine"}).text
    for address in ("choose", "out"):
        assert client.post(f"{piece}/map-sets/{address}", params={"name": "mine"}).status_code == 422
    assert client.post(f"{piece}/map-sets", data={"name": "Relief"}).status_code == 422
