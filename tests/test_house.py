"""The rules of the house that no linter knows: sizes of functions and modules."""

import ast
import pathlib
import re

import pytest

ROOT = pathlib.Path(__file__).parent.parent
PACKAGE = ROOT / "inkwell_cast"
MOST_LINES, MOST_IN_A_FUNCTION, MOST_ARGUMENTS = 400, 50, 10
MODULES = sorted(PACKAGE.rglob("*.py"))
BASES = (ROOT, ROOT / "docs", PACKAGE, PACKAGE / "core")
SCRIPTS = sorted(path for path in (PACKAGE / "web/static").rglob("*.js") if "vendor" not in path.parts)


@pytest.mark.parametrize("path", [*MODULES, *SCRIPTS], ids=lambda path: path.relative_to(PACKAGE).as_posix())
def test_modules_are_short(path):
    assert len(path.read_text().splitlines()) <= MOST_LINES


def test_functions_fit_on_a_screen_and_take_few_arguments():
    long, wide = [], []
    for path in MODULES:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                where = f"{path.relative_to(ROOT)}:{node.lineno} {node.name}"
                arguments = node.args.posonlyargs + node.args.args + node.args.kwonlyargs
                if (node.end_lineno or 0) - node.lineno + 1 > MOST_IN_A_FUNCTION:
                    long.append(where)
                if len([a for a in arguments if a.arg not in ("self", "cls")]) > MOST_ARGUMENTS:
                    wide.append(where)
    assert (long, wide) == ([], [])


def test_the_files_that_the_architecture_names_are_there():
    text = (ROOT / "docs/architecture.md").read_text() + (ROOT / "docs/architecture.svg").read_text()
    text = text.replace("web/guide/flaw-KEY.md", "")
    named = set(re.findall(r"[\w/]+\.(?:py|md|svg|toml|html|js)\b|\b(?:core|web|cli|engine|store|demo)/[\w/]*", text))
    assert len(named) > 60
    lost = [name for name in sorted(named) if not any((base / name).exists() for base in BASES)]
    assert lost == []


def test_every_room_of_the_core_stands_in_the_architecture():
    text = (ROOT / "docs/architecture.md").read_text()
    rooms = [path.name for path in (PACKAGE / "core").iterdir() if path.is_dir() and (path / "__init__.py").exists()]
    assert [room for room in rooms if f"`{room}/`" not in text] == []
