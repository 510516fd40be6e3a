"""What panels say is short: no sentence of more than twenty words, in templates and in the reasons of settings."""

import pathlib
import re

import inkwell_cast
from inkwell_cast.core.settings.recipe import Recipe

TEMPLATES = pathlib.Path(inkwell_cast.__file__).parent / "web" / "templates"
MOST = 20


def sentences(text):
    return [(len(re.findall(r"[\w’'-]+", each)), each) for each in re.split(r"(?<=[.!?:])\s+", text)]


def blocks(template):
    text = re.sub(r"\{#.*?#\}", "", template, flags=re.DOTALL)
    text = re.sub(r"\{%.*?%\}", ". ", text, flags=re.DOTALL)
    text = re.sub(r"\{\{.*?\}\}", "x", text, flags=re.DOTALL)
    found = re.findall(r"<(p|span|td|caption|figcaption)\b[^>]*>(.*?)</\1>", text, flags=re.DOTALL)
    return [re.sub(r"<[^>]+>", " ", inner) for _, inner in found]


def test_sentences_of_panels_are_short():
    long = [
        f"{path.name}: {each.strip()}"
        for path in sorted(TEMPLATES.rglob("*.html"))
        for block in blocks(path.read_text())
        for count, each in sentences(block)
        if count > MOST
    ]
    assert long == []


def reasons(group, name=""):
    for key, field in group.model_fields.items():
        yield f"{name}{key}", field.description or ""
        if hasattr(field.annotation, "model_fields"):
            yield from reasons(field.annotation, f"{name}{key}.")


def test_reasons_of_settings_are_short_sentences():
    long = [f"{name}: {each}" for name, text in reasons(Recipe) for count, each in sentences(text) if count > MOST]
    assert long == []
