"""The rules of the house that no linter knows: sizes, names that stand for one thing, docstrings that stand alone."""

import ast
import pathlib
import re

ROOT = pathlib.Path(__file__).parent.parent
PACKAGE = ROOT / "inkwell_cast"
MOST_LINES, MOST_IN_A_FUNCTION, MOST_ARGUMENTS = 400, 50, 10
WIDEST = 120  # columns
LEANS = re.compile(r"(The same|The other way|As above|Likewise|See above|Ditto)\b")
MODULES = sorted(PACKAGE.rglob("*.py"))
BASES = (ROOT, ROOT / "docs", PACKAGE, PACKAGE / "core")
SCRIPTS = sorted(path for path in (PACKAGE / "web/static").rglob("*.js") if "vendor" not in path.parts)


def test_modules_are_short():
    assert [path for path in [*MODULES, *SCRIPTS] if len(path.read_text().splitlines()) > MOST_LINES] == []


def test_lines_of_scripts_are_short():
    wide = [path for path in SCRIPTS if max(map(len, path.read_text().splitlines())) > WIDEST]
    assert wide == []


def nodes(kind):
    """Every node of a kind in the package, with where it is."""
    for path in MODULES:
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, kind):
                yield f"{path.relative_to(ROOT)}:{getattr(node, 'lineno', 1)}", node


def test_no_docstring_leans_on_its_neighbour():
    documented = (ast.Module, ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef)
    assert [where for where, node in nodes(documented) if LEANS.match(ast.get_docstring(node) or "")] == []


def test_a_class_has_a_name_of_its_own():
    """Models of the API, which are the outside names of things, are left out."""
    found: dict[str, list[str]] = {}
    for where, node in nodes(ast.ClassDef):
        if not node.name.startswith("_") and "web/api/models" not in where:
            found.setdefault(node.name, []).append(where)
    assert {name: places for name, places in found.items() if len(places) > 1} == {}


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


def test_no_class_of_a_page_is_taken_for_a_utility():
    """Tailwind makes `position: fixed` of a class that is called so, whatever the style sheet means by it."""
    made = (PACKAGE / "web/static/app.css").read_text().partition("@layer utilities{")[2].partition("}}@")[0]
    utilities = set(re.findall(r"(?:^|})\.([\w-]+){", made))
    pages = "".join(path.read_text() for path in (PACKAGE / "web/templates").rglob("*.html"))
    used = {name for words in re.findall(r'class="([^"{]*)', pages) for name in words.split()}
    assert len(used) > 100
    assert used & utilities == set()
