"""What the documentation names and shows is so."""

import pathlib
import re

import pytest

ROOT = pathlib.Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs/decisions").glob("*.md"))]


@pytest.mark.parametrize("path", PAGES, ids=lambda path: path.name)
def test_the_modules_that_a_page_names_are_there(path):
    named = re.findall(r"`(core/[\w/]+(?:\.py)?)", path.read_text())
    assert [name for name in named if not (ROOT / "inkwell_cast" / name).exists()] == []


def test_the_python_of_readme_and_guide_runs(tmp_path, monkeypatch):
    """Every import and call of the examples, on small meshes."""
    from inkwell_cast.core.formats import write_mesh

    from .shapes import plane

    monkeypatch.chdir(tmp_path)
    for low, high in (("low.obj", "high.ply"), ("lamp_low.obj", "lamp_high.ply")):
        write_mesh(low, plane(2))
        write_mesh(high, plane(4, 0.01, name="high"))
    for page in (ROOT / "README.md", ROOT / "inkwell_cast/web/guide/python.md"):
        (example,) = re.findall(r"```python\n(.*?)```", page.read_text(), re.DOTALL)
        small = example.replace('bake(maps=["normal", "occlusion"])', 'bake(maps=["normal", "occlusion"], size=32)')
        exec(compile(small, str(page), "exec"), {})
    assert (tmp_path / "maps/manifest.json").is_file()
    assert (tmp_path / "textures/lamp_masks.png").is_file()


def test_the_calls_that_the_guide_lists_are_there():
    import importlib

    text = (ROOT / "inkwell_cast/web/guide/python.md").read_text()
    for name in re.findall(r"`core\.([\w.]+)", text):
        parts = name.split(".")
        for cut in range(len(parts), 0, -1):
            try:
                module = importlib.import_module("inkwell_cast.core." + ".".join(parts[:cut]))
            except ModuleNotFoundError:
                continue
            assert len(parts) == cut or hasattr(module, parts[cut]), name
            break
        else:
            pytest.fail(f"there is no {name}")
