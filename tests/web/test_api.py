"""The API for programs: who may use it, the whole way from meshes to maps, and that it is as it is described."""

import json
import re
import ssl
import subprocess
import sys

import cv2
import httpx
import numpy as np
import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from playwright.sync_api import Page, expect
from schemathesis.specs.openapi.checks import positive_data_acceptance
from starlette.testclient import TestClient

from inkwell_cast.cli import main
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.web.app import create_app
from inkwell_cast.web.routes.guide import FOLDER

API = "/api/1"
SMALL = {"sheet": {"width": 64, "height": 48, "samples": 1}, "output": {"maps": ["normal", "ids"]}}


@pytest.fixture
def program(server, services):
    """A program that was let in."""
    token = services.api_tokens.let_in("Ferry exporter")
    with httpx.Client(base_url=server + API, headers={"Authorization": f"Bearer {token}"}, timeout=60) as made:
        yield made


@pytest.fixture
def made(program, ring_files):
    """A piece of the ring's files."""
    files = {}
    for path in ring_files:
        answer = program.put("/files", params={"name": path.name}, content=path.read_bytes())
        files[answer.json()["token"]] = ""
    answer = program.post("/pieces", json={"name": "Ring", "files": files, "settings": SMALL})
    assert answer.status_code == 201, answer.text
    return answer.json()


def baked(program, piece, **how):
    """A bake that was followed until it was done."""
    bake = program.post(f"/pieces/{piece['id']}/bakes", json=how)
    assert bake.status_code == 202
    with program.stream("GET", f"/bakes/{bake.json()['id']}/events") as events:
        assert events.headers["content-type"].startswith("text/event-stream")
        told = [json.loads(line.removeprefix("data: ")) for line in events.iter_lines() if line]
    assert [event["share"] for event in told] == sorted(event["share"] for event in told)
    assert told[-1]["state"] == "done", told[-1]
    return told[-1]


def test_nobody_without_a_token_is_answered(client, program, services):
    for headers in ({}, {"Authorization": "Bearer none"}, {"Authorization": "Basic eDp5"}):
        answer = client.get(f"{API}/pieces", headers=headers)
        assert answer.status_code == 401
        assert "no token of a program" in answer.json()["error"]
    assert client.get(f"{API}/openapi.json").status_code == 401
    assert client.get("/programs/openapi.json").json()["paths"]
    assert program.get("/pieces").json() == []
    token = program.headers["authorization"].removeprefix("Bearer ")
    with services.store.reading() as db:
        kept = [tuple(row) for row in db.execute("SELECT * FROM client")]
    assert token not in str(kept)
    assert kept[0][4] is not None  # when it was seen
    services.api_tokens.shut_out(services.api_tokens.all()[0].id)
    assert program.get("/pieces").status_code == 401


@pytest.mark.deep
def test_from_meshes_to_maps_and_their_handoff(program, made, tmp_path):
    assert [file["name"] for file in made["files"]] == ["ring_low.obj", "ring_high.ply"]
    assert program.get("/pieces").json() == [made] == [program.get(f"/pieces/{made['id']}").json()]
    assert all(finding["severity"] != "blocking" for finding in program.get(f"/pieces/{made['id']}/checks").json())
    bake = baked(program, made)
    assert bake["maps"] == ["normal", "ids"]
    assert bake["seen"]["bake"]["mean"] < 20
    picture = program.get(f"/bakes/{bake['id']}/maps/normal")
    image = cv2.imdecode(np.frombuffer(picture.content, np.uint8), cv2.IMREAD_UNCHANGED)
    assert image.shape == (48, 64, 3)
    assert program.get(f"/bakes/{bake['id']}/manifest").json()["recipe"]["sheet"]["width"] == 64
    handed = program.post(f"/bakes/{bake['id']}/handoffs", json={"place": str(tmp_path / "out")})
    assert handed.status_code == 201, handed.text
    assert all((tmp_path / "out" / name).is_file() for name in handed.json()["files"])
    again = program.post(f"/bakes/{bake['id']}/handoffs", json={"place": str(tmp_path / "out")})
    assert again.status_code == 422
    assert "Something is there already" in again.json()["error"]
    assert program.delete(f"/bakes/{bake['id']}").status_code == 204
    assert program.get(f"/pieces/{made['id']}").json()["bakes"] == []
    assert program.delete(f"/pieces/{made['id']}").status_code == 204
    assert program.get("/pieces").json() == []


def _replace(path, value):
    return {"op": "replace", "path": path, "value": value}


def test_the_example_of_the_guide_works_as_it_stands(program, ring_files, tmp_path, monkeypatch, capsys):
    (example,) = re.findall(r"```python\n(.*?)```", (FOLDER / "api.md").read_text(), re.DOTALL)
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("INKWELL_CAST_API", str(program.base_url).rstrip("/"))
    monkeypatch.setenv("INKWELL_CAST_TOKEN", program.headers["authorization"].removeprefix("Bearer "))
    for path, name in zip(ring_files, ("lamp_low.obj", "lamp_high.ply"), strict=True):
        (tmp_path / name).write_bytes(path.read_bytes())
    exec(compile(example.replace("512", "64"), "api.md", "exec"), {})
    said = capsys.readouterr().out
    assert "done" in said
    assert float(said.splitlines()[-1]) < 20
    assert {path.name for path in tmp_path.glob("*.png")} == {"lamp_low_normal.png", "lamp_low_occlusion.png"}


def test_settings_are_patched_and_joined_with_what_came_since(program, made, services):
    address = f"/pieces/{made['id']}/settings"
    before = program.get(address).json()
    assert Recipe.model_validate(before["settings"]).sheet.width == 64

    def patch(*changes, step=None):
        return program.patch(address, json={"step": step, "patch": [_replace(*change) for change in changes]})

    first = patch(("/reach/outward", 3), ("/basis/green", "down"), step=before["step"]).json()
    assert first["step"] == before["step"] + 1
    joined = patch(("/reach/inward", 4), step=before["step"]).json()
    assert (joined["settings"]["reach"]["outward"], joined["settings"]["reach"]["inward"]) == (3, 4)
    collided = patch(("/reach/outward", 9), ("/sheet/width", 32), step=before["step"]).json()
    assert (collided["settings"]["reach"]["outward"], collided["settings"]["sheet"]["width"]) == (3, 32)
    assert any("Not changed here" in words for words in collided["said"])
    for changes, words in (
        ([("/reach/none", 1)], "cannot be applied"),
        ([("/sheet/width", 3)], "sheet.width"),
        ([("/reach", "wide")], "reach"),
    ):
        refused = patch(*changes)
        assert refused.status_code == 422
        assert words in refused.json()["error"]
    assert program.get(address).json()["step"] == collided["step"]


@pytest.mark.deep
def test_a_mend_that_a_flaw_offers_is_kept(program, made):
    program.patch(
        f"/pieces/{made['id']}/settings",
        json={"patch": [{"op": "replace", "path": f"/reach/{way}", "value": 0.05} for way in ("outward", "inward")]},
    )
    bake = baked(program, made, proof=True)
    flaws = program.get(f"/bakes/{bake['id']}/flaws").json()
    number = next(n for n, flaw in enumerate(flaws) if flaw["mends"])
    kept = program.post(f"/bakes/{bake['id']}/mends", json={"flaw": number}).json()
    assert len(kept["settings"]["mends"]) == 1
    assert program.post(f"/bakes/{bake['id']}/mends", json={"flaw": 999}).status_code == 422


def test_what_is_not_there_or_not_done_is_told_in_words(program, made, server, services):
    for address, words in (
        ("/pieces/999", "no longer on the shelf"),
        ("/bakes/999", "There is no such bake"),
        ("/bakes/0", "bake_id"),
        ("/nothing", "Not Found"),
    ):
        answer = program.get(address)
        assert answer.status_code in (404, 422)
        assert words in answer.json()["error"]
    long = {"op": "replace", "path": "/sheet", "value": {"width": 4096, "height": 4096, "samples": 64}}
    program.patch(f"/pieces/{made['id']}/settings", json={"patch": [long]})
    bake = program.post(f"/pieces/{made['id']}/bakes", json={}).json()
    answer = program.get(f"/bakes/{bake['id']}/manifest")
    assert (answer.status_code, answer.json()["error"].partition(":")[0]) == (422, "The bake")
    assert program.delete(f"/bakes/{bake['id']}").status_code == 204
    with program.stream("GET", f"/bakes/{bake['id']}/events") as events:
        told = [json.loads(line.removeprefix("data: ")) for line in events.iter_lines() if line]
    assert told[-1]["state"] == "cancelled"


def test_other_machines_need_a_token_for_everything(services):
    token = services.api_tokens.let_in("Desk")
    remote = TestClient(create_app(services, remote=True), base_url="https://studio.example:8734")
    for address in ("/", "/static/app.css", "/pieces", f"{API}/pieces", "/programs/openapi.json"):
        assert remote.get(address).status_code == 401, address
    assert remote.get("/").headers["www-authenticate"].startswith("Basic")
    assert remote.get("/", auth=("anybody", token)).status_code == 200
    assert remote.get("/", auth=(token, "wrong")).status_code == 401
    assert remote.get("/", headers={"Authorization": "Basic !!"}).status_code == 401
    assert remote.get(f"{API}/pieces", headers={"Authorization": f"Bearer {token}"}).json() == []
    elsewhere = {"Origin": "https://other.example", "Authorization": f"Bearer {token}"}
    assert remote.post("/programs", data={"name": "x"}, headers=elsewhere).status_code == 403
    own = elsewhere | {"Origin": "https://studio.example:8734"}
    assert remote.post("/programs", data={"name": "x"}, headers=own).status_code == 200
    here = TestClient(create_app(services), base_url="http://127.0.0.1:8734")
    assert here.get("/").status_code == 200
    assert here.get(f"{API}/pieces", auth=("anybody", token)).status_code == 401  # a browser's password is for pages


def test_a_server_for_others_speaks_tls_and_prints_its_first_token(tmp_path, capsys):
    cert, key = tmp_path / "cert.pem", tmp_path / "key.pem"
    made = [
        "openssl",
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-days",
        "2",
        "-subj",
        "/CN=localhost",
        "-addext",
        "subjectAltName=IP:127.0.0.1",
        "-keyout",
        str(key),
        "-out",
        str(cert),
    ]
    subprocess.run(made, check=True, capture_output=True)
    serve = ["serve", "--port", "0", "--data", str(tmp_path / "data"), "--host", "127.0.0.1"]
    for more, words in (
        ([], "over TLS only"),
        (["--tls-cert", str(cert), "--tls-key", str(tmp_path / "none")], "There is no such file"),
        (["--tls-cert", str(cert), "--tls-key", str(cert)], "no certificate and its key"),
    ):
        assert main([*serve, *more]) == 2
        assert words in capsys.readouterr().err
    command = [sys.executable, "-m", "inkwell_cast.cli", *serve, "--tls-cert", str(cert), "--tls-key", str(key)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        token = process.stdout.readline().rpartition(" ")[2].strip()
        address = re.search(r"https://\S+", process.stdout.readline()).group()
        context = ssl.create_default_context(cafile=cert)
        with httpx.Client(
            verify=context, timeout=30, transport=httpx.HTTPTransport(verify=context, retries=5)
        ) as asking:
            assert asking.get(f"{address}{API}/pieces").status_code == 401
            assert asking.get(f"{address}{API}/pieces", headers={"Authorization": f"Bearer {token}"}).json() == []
    finally:
        process.terminate()
        process.wait(20)


@pytest.mark.deep
def test_every_answer_is_as_it_is_described(services):
    """Hundreds of requests made from the description, most of them wrong, break nothing."""
    app = create_app(services)
    token = services.api_tokens.let_in("Described")
    described = schemathesis.openapi.from_dict(app.state.api.openapi())
    described.app = app
    tried = set()
    for result in described.get_all_operations():
        operation = result.ok()

        @settings(max_examples=8, deadline=None, database=None, derandomize=True, suppress_health_check=[*HealthCheck])
        def conforms(case):
            tried.add(case.operation.label)
            case.call_and_validate(
                headers={"Authorization": f"Bearer {token}", "Host": "127.0.0.1"},
                base_url=f"http://127.0.0.1{API}",
                excluded_checks=[positive_data_acceptance],  # a file may be described well and hold no mesh
            )

        given(case=operation.as_strategy())(conforms)()
    assert len(tried) == 19


def test_a_program_is_let_in_and_shut_out_on_the_page(alive: Page, server, client):
    page = alive
    page.goto(f"{server}/")
    page.get_by_role("link", name="Programs").click()
    expect(page.get_by_text("No program is let in")).to_be_visible()
    page.get_by_label("Name of the program").fill("Ferry exporter")
    page.get_by_label("Name of the program").press("Enter")
    token = page.locator("#token").inner_text()
    assert client.get(f"{API}/pieces", headers={"Authorization": f"Bearer {token}"}).status_code == 200
    expect(page.get_by_text(f"{server}{API}/pieces")).to_be_visible()
    page.get_by_label("Name of the program").fill("ferry exporter")
    page.get_by_role("button", name="Make a token").click()
    expect(page.get_by_role("alert")).to_contain_text("A program is called this already")
    expect(page.locator("#token")).to_have_count(0)
    page.get_by_role("button", name="Shut out").click()
    expect(page.get_by_text("No program is let in")).to_be_visible()
    assert client.get(f"{API}/pieces", headers={"Authorization": f"Bearer {token}"}).status_code == 401
