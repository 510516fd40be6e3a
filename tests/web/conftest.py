"""A client, a piece of the ring's files, and what tests of the server ask again and again."""

import re

import httpx
import pytest
from playwright.sync_api import BrowserContext, Page, expect

from .browser import SLOW

expect.set_options(timeout=SLOW)  # two browsers, two servers and their engines share two processors here


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args):
    """Half the pixels each way and nothing that moves: browsers here draw on the processor, which the engine needs too."""
    return {**browser_context_args, "device_scale_factor": 0.5, "reduced_motion": "reduce"}


@pytest.fixture
def context(context: BrowserContext):
    """Nothing that a page is asked to do is given up early: see `SLOW`."""
    context.set_default_timeout(SLOW)
    return context


@pytest.fixture
def client(server):
    with httpx.Client(base_url=server, timeout=SLOW / 1000) as made:
        yield made


@pytest.fixture
def piece(client):
    """The address of a piece made of the ring's files, with a sheet that bakes quickly."""
    return "/pieces/1"


@pytest.fixture
def facts(client, piece):
    """What a page knows of the bake that this piece comes with."""
    return client.get(f"{piece}/bakes/1/facts").json()


@pytest.fixture
def ring(server):
    """The address of a page of the ring's piece, which was looked at before; its sheet has 64 texels a side."""
    return f"{server}/pieces/1"


HELD = """
for (let piece = 1; piece < 10; piece++) if (!localStorage.getItem(`live:/pieces/${piece}`)) localStorage.setItem(`live:/pieces/${piece}`, "off");
if (localStorage.getItem("drawer") === null) localStorage.setItem("drawer", "bakes");
"""


@pytest.fixture
def quiet(alive: Page):
    """`alive`, with Live held still and the drawer open: for what is not about either."""
    alive.add_init_script(HELD)
    return alive


@pytest.fixture
def alive(page: Page):
    """A page on which any script error or refused file fails the test."""
    problems = []
    page.on("pageerror", lambda error: problems.append(str(error)))
    # told by the browser's console though all is well: a file that was refused, a change that a newer one replaced
    harmless = re.compile("422 .Unprocessable|^htmx:(afterRequest|sendAbort)")
    page.on("console", lambda m: problems.append(m.text) if m.type == "error" and not harmless.search(m.text) else None)
    yield page
    assert problems == []
