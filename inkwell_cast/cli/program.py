"""Commands for the program itself."""

import argparse
import json
import pathlib
import ssl
from typing import Any

from pydantic import BaseModel, TypeAdapter, ValidationError

from ..core.base.errors import InputProblem
from ..core.base.on_demand import importing
from ..core.handoff.piece_file import SUFFIX, read_contents
from ..core.settings.recipe import Recipe, refused_words
from ..core.settings.taking import USUAL, taken_from
from ..core.settings.trade_words import meant_by
from .bar import Bar
from .input import recipe_file


def run_settings(options: argparse.Namespace) -> int:
    """Every setting by name, with its default, unit and reason; with --json its range and what is set by name too.

    With words only those that have them, or that are what other words of the trade mean.
    """
    wanted = " ".join(options.words)
    meant = meant_by(wanted)
    named = {name for one in meant for name in one.settings}
    if options.json:
        rows = [row for row in _every_setting() if not wanted or row["name"] in named or _has(wanted, *row.values())]
        print(json.dumps(rows, indent=2))
        return 0
    for one in meant:
        print(f"“{one.words[0]}” is called {one.here} here; guide: {one.page}")
    shown = len(meant)
    for group, part in Recipe.model_fields.items():
        if not (isinstance(part.annotation, type) and issubclass(part.annotation, BaseModel)):
            continue
        units = {"reach": "in reach.unit", "margin": "in reach.margin_unit", "unit": f"in {group}.unit"}
        for name, field in part.annotation.model_fields.items():
            extra = field.json_schema_extra
            unit = str(extra.get("unit", "")) if isinstance(extra, dict) else ""
            unit, default = units.get(unit, unit), field.get_default(call_default_factory=True)
            if (
                wanted
                and f"{group}.{name}" not in named
                and not _has(wanted, name, group, field.title, field.description)
            ):
                continue
            shown += 1
            print(f"{group}.{name} = {json.dumps(default)}{f' {unit}' if unit else ''}\n    {field.description}")
    if not shown:
        raise InputProblem("settings", f"None has the words “{wanted}”.", "Try another, or none for all of them.")
    return 0


def _has(wanted: str, *texts: Any) -> bool:
    """Whether some texts have all words that are wanted."""
    there = " ".join(str(text) for text in texts).lower()
    return all(word in there for word in wanted.lower().split())


def _every_setting() -> list[dict[str, Any]]:
    """Name, title, reason, unit, default, and what JSON schema says of the values of each."""
    rows = []
    for group, part in Recipe.model_fields.items():
        kind = part.annotation
        if isinstance(kind, type) and issubclass(kind, BaseModel):
            schema, prefix, fields = kind.model_json_schema(), f"{group}.", kind.model_fields
        else:
            schema, prefix, fields = Recipe.model_json_schema(), "", {group: part}
        for name, field in fields.items():
            values = dict(schema["properties"][name])
            told = {key: values.pop(key, "") for key in ("title", "description", "unit")}
            values.pop("default", None)
            default = field.get_default(call_default_factory=True)
            rows.append(
                {
                    "name": f"{prefix}{name}",
                    "title": told["title"],
                    "reason": told["description"],
                    "unit": told["unit"],
                    "default": TypeAdapter(Any).dump_python(default, mode="json"),
                    "values": values,
                }
            )
    return rows


def show_recipe_schema(options: argparse.Namespace) -> int:
    """The JSON schema of a recipe."""
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **Recipe.model_json_schema()}
    print(json.dumps(schema, indent=2))
    return 0


def show_recipe(options: argparse.Namespace) -> int:
    """A recipe, or the settings of a piece file, with everything that it leaves to the defaults, or without."""
    print(_recipe_in(options.recipe).model_dump_json(indent=2, exclude_defaults=options.changed))
    return 0


def take_settings(options: argparse.Namespace) -> int:
    """A recipe with settings of some kinds as another has them."""
    taken = taken_from(_recipe_in(options.recipe), _recipe_in(options.of), options.kinds or USUAL)
    print(taken.model_dump_json(indent=2, exclude_defaults=True))
    return 0


def validate_recipes(options: argparse.Namespace) -> int:
    """Say of each file whether it is a recipe; exit code 2 where one is none."""
    wrong = 0
    for path in options.recipes:
        try:
            _recipe_in(path)
            print(f"{path}: a recipe")
        except ValidationError as refused:
            wrong += 1
            print(f"{path}: {refused_words(refused)}")
        except InputProblem as problem:
            wrong += 1
            print(problem)
    return 2 if wrong else 0


def _recipe_in(path: pathlib.Path) -> Recipe:
    """The recipe of a JSON file, or of a piece file."""
    if path.suffix.lower() == SUFFIX:
        return read_contents(path).recipe
    return recipe_file(argparse.Namespace(files=[], low=[], high=[], recipe=path, together=False, alone=False))


def run_compile(options: argparse.Namespace) -> int:
    """Compile what is not compiled yet; done again it takes a moment."""
    from ..engine.compile_kernels import compile_missing
    from ..kernel_cache import folder

    bar = Bar()
    try:
        compile_missing(lambda share: bar.show("compiling kernels", share))
    finally:
        bar.end()
    print(f"The kernels of this version are in {folder()}")
    return 0


def run_worker(options: argparse.Namespace) -> int:
    from ..engine.cluster import refuse_without_dask

    refuse_without_dask()
    run_compile(options)
    from ..engine.cluster.start_worker import serve

    serve(options.address, options.threads, int(options.memory * 1e9), options.name)
    return 0


def run_serve(options: argparse.Namespace) -> int:
    with importing():
        from ..web.serve import serve
    return serve(
        options.data, options.port, False, browser=options.open, cluster=options.cluster, remote=_remote(options)
    )


def _remote(options: argparse.Namespace) -> Any:
    """How other machines reach the server; None for this one alone. Raises InputProblem where it would not be safe."""
    from ..web.serve import Remote

    if options.host is None and not (options.tls_cert or options.tls_key):
        return None
    if not (options.host and options.tls_cert and options.tls_key):
        raise InputProblem(
            "serve --host",
            "Other machines are let in over TLS only.",
            "Give --host, --tls-cert and --tls-key together.",
        )
    for path in (options.tls_cert, options.tls_key):
        if not path.is_file():
            raise InputProblem(str(path), "There is no such file.", "Give the PEM files of a certificate and its key.")
    try:
        ssl.create_default_context(ssl.Purpose.CLIENT_AUTH).load_cert_chain(options.tls_cert, options.tls_key)
    except ssl.SSLError as error:
        raise InputProblem(
            f"{options.tls_cert}, {options.tls_key}",
            f"They are no certificate and its key ({error.reason}).",
            "Give PEM files that belong together.",
        ) from error
    return Remote(options.host, options.tls_cert, options.tls_key)


def run_demo(options: argparse.Namespace) -> int:
    if options.write:
        return _write_demo(options.write)
    with importing():
        from ..web.serve import serve
    bar = Bar()

    def compiling(share: float) -> None:
        bar.show("compiling, the first time only", share)

    return serve(
        options.data, options.port, demo=True, compiling=compiling, browser=options.open, cluster=options.cluster
    )


def _write_demo(folder: pathlib.Path) -> int:
    """The demo meshes as an artist would have them, each piece with its settings beside it as a recipe."""
    from ..demo.pieces import pieces

    for piece in pieces():
        try:
            folder.mkdir(parents=True, exist_ok=True)
            paths = piece.write(folder)
            recipe = folder / f"{paths[0].stem.removesuffix('_low')}.json"
            recipe.write_text(piece.recipe.model_dump_json(indent=2, exclude_defaults=True) + "\n", encoding="utf-8")
        except OSError as error:
            raise InputProblem(
                str(folder), f"The demo meshes cannot be written there ({error.strerror}).", "Choose another folder."
            ) from error
        print(f"{piece.title}: {', '.join(path.name for path in paths)}, settings in {recipe.name}")
    return 0


def run_shortcut(options: argparse.Namespace) -> int:
    from .shortcut import run

    return run(options)
