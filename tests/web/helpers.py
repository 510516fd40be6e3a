"""What tests of the server ask again and again."""

import json
import re
import time

import numpy as np

from inkwell_cast.core.mesh.binary_message import unpack

from .browser import SLOW


def baked(client, piece):
    """Bake and wait; the facts of the newest bake."""
    client.post(f"{piece}/bake")
    return ended(client, piece)


def ended(client, piece):
    """Wait for the bake at work; its state, and the facts of the newest one that is done."""
    until = time.monotonic() + SLOW / 1000
    while time.monotonic() < until:
        answer = client.get(f"{piece}/progress")
        if "bake-ended" in answer.headers.get("HX-Trigger", ""):
            return json.loads(answer.headers["HX-Trigger"])["bake-ended"]
        time.sleep(0.05)
    raise AssertionError("the bake did not end")


def piece_id_of(piece):
    return int(piece.rsplit("/", 1)[1])


def mesh_id_of(services, piece, name):
    return next(row.id for row in services.pieces.get(piece_id_of(piece))[1] if row.file_name == name)


def message(answer):
    return unpack(np.frombuffer(answer.content, np.uint8))


def listed(client, piece, kind, number=0):
    """The address of a pocket, mend or packed picture of a piece, counted from 0, as its panel has it."""
    step = {"pockets": "cage", "mends": "review", "packs": "handoff"}[kind]
    found = re.findall(rf"{piece}/{kind}/[0-9a-f]{{12}}(?=/out)", client.get(f"{piece}/panel/{step}").text)
    return found[number]
