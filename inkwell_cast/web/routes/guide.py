"""The guide: pages of Markdown that ship with the program, linked from where they are needed."""

import re
from functools import lru_cache

from fastapi import APIRouter, Request
from markdown_it import MarkdownIt
from starlette.exceptions import HTTPException
from starlette.responses import FileResponse, RedirectResponse, Response

from ..templating import HERE, render

router = APIRouter(prefix="/guide")
FOLDER = HERE / "guide"


@router.get("")
def start() -> Response:
    return RedirectResponse("/guide/index")


@router.get("/pictures/{name}")
def picture(name: str) -> Response:
    path = FOLDER / "pictures" / name
    if not re.fullmatch(r"[\w-]+\.png", name) or not path.is_file():
        raise HTTPException(404, "The guide has no such picture.")
    return FileResponse(path, media_type="image/png")


@router.get("/{name}")
def page(request: Request, name: str) -> Response:
    """A page; its links name the files, so ".md" may stand at the end."""
    name = name.removesuffix(".md")
    if not re.fullmatch(r"[\w-]+", name) or not (FOLDER / f"{name}.md").is_file():
        raise HTTPException(404, "The guide has no such page.")
    title, body = _page(name)
    return render(request, "guide.html", title=title, body=body, here=name)


@lru_cache
def _page(name: str) -> tuple[str, str]:
    """Title and HTML of a page; headings get what a link calls them by."""
    reader = MarkdownIt("commonmark").enable("table")
    tokens = reader.parse((FOLDER / f"{name}.md").read_text(encoding="utf-8"))
    title = ""
    for n, token in enumerate(tokens):
        if token.type == "heading_open":
            words = tokens[n + 1].content
            token.attrSet("id", slug(words))
            title = title or words
    return title, str(reader.renderer.render(tokens, reader.options, {}))


def slug(words: str) -> str:
    """A heading as the end of a link names it."""
    return re.sub(r"[^\w-]", "", words.lower().replace(" ", "-"))
