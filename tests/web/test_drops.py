"""Meshes dropped anywhere: on the shelf, on a new piece, on one that is open."""

import base64
import re

from playwright.sync_api import Page, expect

from inkwell_cast.core.formats import write_mesh

from ..shapes import torus
from .browser import SLOW, ready

DROP = """async (files) => {
  const transfer = new DataTransfer();
  for (const [name, data] of files) {
    transfer.items.add(new File([Uint8Array.from(atob(data), (c) => c.charCodeAt(0))], name));
  }
  const at = document.querySelector("#model") ?? document.body;
  for (const type of ["dragover", "drop"])
    at.dispatchEvent(new DragEvent(type, { dataTransfer: transfer, bubbles: true, cancelable: true }));
}"""


def drop(page: Page, *paths) -> None:
    page.evaluate(DROP, [[path.name, base64.b64encode(path.read_bytes()).decode()] for path in paths])


def test_what_is_dropped_on_the_shelf_is_a_piece_with_its_picture_and_can_be_undone(
    alive: Page, server, services, ring_files
):
    page = alive
    page.goto(server)
    drop(page, *ring_files)
    page.wait_for_url(re.compile(r"/pieces/\d+"), timeout=SLOW)
    ready(page)
    expect(page.locator("#made")).to_contain_text("Made of 2 files")
    expect(page.locator("#table")).to_have_attribute("data-lived", re.compile(r"\d+"), timeout=SLOW)
    page.locator("#unmake").click()
    page.wait_for_url(re.compile("/new"))
    assert not services.pieces.names()


def test_names_that_say_nothing_are_asked_and_what_is_no_mesh_is_told(quiet: Page, server, tmp_path):
    page = quiet
    write_mesh(tmp_path / "shell.obj", torus(20, 10))
    write_mesh(tmp_path / "scan.ply", torus(200, 100))
    page.goto(server)
    drop(page, tmp_path / "shell.obj", tmp_path / "scan.ply")
    page.wait_for_url(re.compile("/new"), timeout=SLOW)
    expect(page.locator(".guess").last).to_have_text(re.compile("Guessed: 100 times"), timeout=SLOW)
    expect(page.get_by_role("button", name="Make the piece")).to_be_enabled(timeout=SLOW)
    (tmp_path / "notes.txt").write_text("no mesh")
    page.goto(server)
    drop(page, tmp_path / "notes.txt")
    expect(page.locator("#problem")).to_contain_text("piece file", timeout=SLOW)


def test_a_mesh_dropped_on_an_open_piece_takes_the_place_of_its_like_or_is_a_new_part(
    quiet: Page, ring, services, ring_files, tmp_path
):
    page = quiet
    page.goto(f"{ring}?step=cage&plain")
    ready(page)
    write_mesh(tmp_path / "bolt_high.obj", torus(12, 6, name="bolt_high"))
    drop(page, ring_files[0], tmp_path / "bolt_high.obj")
    dialog = page.locator("#dropped")
    expect(dialog.get_by_label(f"What {ring_files[0].name} is")).not_to_have_value("")
    expect(dialog.get_by_label("What bolt_high.obj is")).to_have_value("")
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()
    piece_id = int(re.search(r"/pieces/(\d+)", ring).group(1))
    before = {row.file_name for row in services.pieces.get(piece_id)[1]}
    drop(page, ring_files[0], tmp_path / "bolt_high.obj")
    page.get_by_role("button", name="Take it in").click()
    expect(page.locator(".file")).to_have_count(len(before) + 1, timeout=SLOW)
    assert {row.file_name for row in services.pieces.get(piece_id)[1]} == before | {"bolt_high.obj"}
