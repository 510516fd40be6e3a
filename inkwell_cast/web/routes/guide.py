"""The guide: pages of Markdown that ship with the program, linked from where they are needed."""

import re
from functools import lru_cache

from fastapi import APIRouter, Request
from starlette.exceptions import HTTPException
from starlette.responses import FileResponse, RedirectResponse, Response

from ...core.base.on_demand import library
from ...core.settings.trade_words import meant_by
from ..templating import HERE, render, templates

router = APIRouter(prefix="/guide")
FOLDER = HERE / "guide"
INDEX_OF_FLAWS = "<p>FLAW_INDEX</p>"
AROUND = 60  # characters shown before what was found


@router.get("")
def start() -> Response:
    return RedirectResponse("/guide/index")


@router.get("/search")
def searched(request: Request, q: str = "") -> Response:
    """The pages that have some words."""
    return render(request, "guide.html", title=f"“{q}”", body="", here="", found=search(q[:200]), wanted=q)


@router.get("/pictures/{name}")
def picture(name: str) -> Response:
    path = FOLDER / "pictures" / name
    if not re.fullmatch(r"[\w-]{1,80}\.png", name) or not path.is_file():
        raise HTTPException(404, "The guide has no such picture.")
    return FileResponse(path, media_type="image/png")


@router.get("/{name}")
def page(request: Request, name: str) -> Response:
    """A page; its links name the files, so ".md" may stand at the end."""
    name = name.removesuffix(".md")
    if not re.fullmatch(r"[\w-]{1,80}", name) or not (FOLDER / f"{name}.md").is_file():
        raise HTTPException(404, "The guide has no such page.")
    title, body = _page(name)
    return render(request, "guide.html", title=title, body=body, here=name, found=None, wanted="")


@lru_cache
def _page(name: str) -> tuple[str, str]:
    """Title and HTML of a page; headings get what a link calls them by."""
    reader = library("markdown_it").MarkdownIt("commonmark").enable("table")
    tokens = reader.parse(_text(name))
    title = ""
    for n, token in enumerate(tokens):
        if token.type == "heading_open":
            words = tokens[n + 1].content
            token.attrSet("id", slug(words))
            title = title or words
    body = str(reader.renderer.render(tokens, reader.options, {}))
    if INDEX_OF_FLAWS in body:
        body = body.replace(INDEX_OF_FLAWS, templates.get_template("flaw_index.html").render(flaws=_flaws()))
    return title, body


def _text(name: str) -> str:
    return (FOLDER / f"{name}.md").read_text(encoding="utf-8")


def _flaws() -> list[tuple[str, str, bool]]:
    """Every flaw's page, its title, and whether there is a picture of it."""
    names = sorted(path.stem for path in FOLDER.glob("flaw-*.md"))
    return [(name, _page(name)[0], (FOLDER / "pictures" / f"{name}.png").is_file()) for name in names]


@lru_cache
def _index() -> list[tuple[str, str, str]]:
    """Every page: its name, its title and its plain words."""
    pages = []
    for path in sorted(FOLDER.glob("*.md")):
        plain = re.sub(r"\[([^\]]*)\]\([^)]*\)|[`*#|>]|FLAW_INDEX", r"\1", _text(path.stem))
        pages.append((path.stem, _page(path.stem)[0], " ".join(plain.split())))
    return pages


def search(wanted: str) -> list[tuple[str, str, str]]:
    """Pages with all the words that are wanted, those with them in the title first: name, title, a few words there.

    Before them come those of what other words of the trade are called here.
    """
    meant = {one.page: f"Here it is called {one.here}." for one in reversed(meant_by(wanted))}
    words = [word for word in re.split(r"\W+", wanted.lower()) if word]
    found = []
    for name, title, text in _index():
        low = f"{title} {text}".lower()
        if not words or not all(word in low for word in words):
            continue
        at = max(text.lower().find(words[0]) - AROUND, 0)
        in_title = sum(word in title.lower() for word in words)
        found.append((-in_title, -sum(low.count(word) for word in words), (name, title, text[at : at + 3 * AROUND])))
    called = [(name, _page(name)[0], words) for name, words in reversed(meant.items())]
    return called + [page for _, _, page in sorted(found) if page[0] not in meant]


def slug(words: str) -> str:
    """A heading as the end of a link names it."""
    return re.sub(r"[^\w-]", "", words.lower().replace(" ", "-"))
