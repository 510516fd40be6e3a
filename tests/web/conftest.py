"""A client, a piece of the ring's files, and what tests of the server ask again and again."""

import httpx
import pytest


@pytest.fixture
def client(server):
    with httpx.Client(base_url=server, timeout=60) as made:
        yield made


@pytest.fixture
def piece(client, ring_files):
    """The address of a piece made of the ring's files, with a sheet that bakes quickly."""
    tokens = {}
    for path in ring_files:
        answer = client.put("/uploads", params={"name": path.name}, content=path.read_bytes()).json()
        assert answer["role"] == ""  # the names say it
        tokens[answer["token"]] = ""
    address = client.post("/pieces", json={"name": "Ring <b>of</b> rope", "roles": tokens}).json()["address"]
    fields = {
        "sheet.width": "64",
        "sheet.height": "48",
        "sheet.samples": "1",
        "output.maps": ["", "normal", "normal_object"],
    }
    client.post(f"{address}/settings/maps", data=fields)
    return address
