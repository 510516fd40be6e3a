"""The guide: every page is there, and every link in it leads somewhere."""

import pathlib
import re
from urllib.parse import urljoin

from inkwell_cast.core.flaws import REGISTRY
from inkwell_cast.core.flaws.from_checks import ALWAYS, CAUSES
from inkwell_cast.web.routes.guide import FOLDER, search

PAGES = sorted(path.stem for path in FOLDER.glob("*.md"))
TEMPLATES = FOLDER.parent / "templates"


def test_every_link_and_picture_of_every_page_leads_somewhere(client):
    bodies = {}
    for name in PAGES:
        answer = client.get(f"/guide/{name}.md")
        assert answer.status_code == 200
        bodies[name] = answer.text.partition("<main>")[2].partition("</main>")[0]
        assert bodies[name].count("<h1") == 1
    for name, body in bodies.items():
        for link in re.findall(r'(?:href|src)="([^"]+)"', body):
            page, _, anchor = link.partition("#")
            page = (page or name).removesuffix(".md")
            assert page in PAGES or client.get(urljoin("/guide/", page)).status_code == 200, (name, link)
            assert not anchor or f'id="{anchor}"' in bodies[page], (name, link)


def test_every_flaw_has_a_page_and_every_help_of_a_template_is_there():
    flaws = {*REGISTRY, *(cause for cause, _ in (CAUSES | ALWAYS).values()), "outside", "back"}
    assert {page.removeprefix("flaw-") for page in PAGES if page.startswith("flaw-")} == flaws
    for template in TEMPLATES.rglob("*.html"):
        text = template.read_text()
        for page in re.findall(r'help\("([\w-]+)"\)', text) + re.findall(r'href="/guide/([\w-]+)"', text):
            assert page in PAGES, (template.name, page)


def test_what_is_not_in_the_guide_is_said(client):
    assert client.get("/guide", follow_redirects=True).status_code == 200
    for gone in ("none", "..%2Fapp", "pictures/none.png", "pictures/..%2Findex.md"):
        assert client.get(f"/guide/{gone}").status_code == 404
    assert pathlib.Path(FOLDER / "index.md").is_file()


def test_the_guide_is_found_by_the_words_of_the_trade():
    """Its own page says what each is called here; the page that is meant comes first, once."""
    for asked, page in (("dilation", "maps"), ("OpenGL or DirectX normals", "basis"), ("longest ray distance", "cage")):
        found = search(asked)
        assert found[0][0] == page
        assert "Here it is called" in found[0][2]
        assert [name for name, _, _ in found].count(page) == 1
    assert "what-it-is-called" in [name for name, _, _ in search("dilation")]
