"""Every page and state by the rules of WCAG 2.1, level AA, as axe-core reads them; light and dark."""

import pathlib
import re

import pytest
from playwright.sync_api import Page, expect

from .browser import SLOW, make_piece, ready

AXE = pathlib.Path(__file__).parents[1] / "node_modules" / "axe-core" / "axe.min.js"
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]


def violations(page: Page, rules: list[str]) -> list[str]:
    """What axe finds wrong on a page, one line a kind: its rule, what it asks for, and the first element."""
    page.evaluate(f"() => {{ {AXE.read_text()}; }}") if not page.evaluate("() => 'axe' in window") else None
    found = page.evaluate("(rules) => axe.run(document, { runOnly: rules })", rules)["violations"]
    return [
        f"{v['id']} ({len(v['nodes'])}): {n['html'][:140]} · {n['failureSummary'][-180:]}"
        for v in found
        for n in v["nodes"][:3]
    ]


@pytest.mark.deep
def test_no_page_or_state_breaks_a_rule(alive: Page, server, ring_files):
    page, wrong = alive, {}

    def look(name):
        for scheme, rules in (("dark", ["color-contrast"]), ("light", RULES)):
            page.emulate_media(color_scheme=scheme, reduced_motion="reduce")
            found = violations(page, rules)
            if found:
                wrong[f"{name}, {scheme}"] = found

    page.goto(server)
    look("an empty shelf")
    page.goto(f"{server}/new")
    look("a new piece")
    make_piece(page, server, ring_files)
    look("a first look")
    expect(page.locator("#table")).to_have_attribute("data-renewed", "1", timeout=SLOW)
    for step in ("Meshes", "Cage", "Basis", "Maps", "Review", "Handoff"):
        page.get_by_role("link", name=step, exact=True).click()
        expect(page.locator("#steps .here")).to_have_text(step)
        page.wait_for_timeout(300)
        for fold in page.locator("#panel details:not([open]) > summary").all()[:12]:
            if fold.is_visible():
                fold.click()
        look(step)
    page.get_by_role("tab", name=re.compile("Bakes")).click()
    page.get_by_role("tab", name="Section").click()
    page.keyboard.press("?")
    page.locator("#surface summary").click()
    look("section, keys and surface")
    page.get_by_role("button", name="Take the tour").click()
    look("the tour")
    page.goto(page.url)
    ready(page)
    page.goto(server)
    look("a shelf")
    for address in ("/disk", "/programs", "/guide", "/guide/flaws"):
        page.goto(f"{server}{address}")
        look(address)
    if wrong:
        pytest.fail("\n".join(f"{name}: {line}" for name, lines in wrong.items() for line in lines))
