"""Mutated files of every kind that the program takes in: meshes, recipes, receivers, libraries, pieces, pictures."""

import json
import logging
import pathlib
import tempfile
import time
import warnings

import numpy as np
from pydantic import ValidationError

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.handoff.piece_file import read_piece, write_meshes
from inkwell_cast.core.images import SUFFIXES, read_picture, write_picture
from inkwell_cast.core.maps.panorama import with_panorama
from inkwell_cast.core.settings.material_library import read_library
from inkwell_cast.core.settings.project import Project, read_project
from inkwell_cast.core.settings.receivers import READY, read_receiver
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.regions import Pocket

from ..fuzz import damaged
from ..fuzz import run as run_meshes
from ..shapes import torus
from .outcome import Outcome
from .server import LONGEST

OTHERS = 6  # kinds of whole files beside meshes and pictures
logging.getLogger("tifffile").setLevel(logging.CRITICAL)


def run(count: int, seed: int) -> Outcome:
    """About `count` files in all, half of them meshes."""
    kinds = 8  # of meshes that are read in this process
    each = max(1, count // 2 // kinds)
    outcome = Outcome("mutated files", kinds + OTHERS + len(SUFFIXES), each * kinds)
    outcome.failures += run_meshes(each, seed)
    random = np.random.default_rng(seed)
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        for kind, (data, read) in _others(folder).items():
            for n in range(max(1, count // 2 // (OTHERS + len(SUFFIXES)))):
                outcome.tries += 1
                fault = _attempt(folder, kind, damaged(data, random), read)
                if fault:
                    outcome.failures.append(f"{kind} number {n}: {fault}")
    return outcome


def _others(folder: pathlib.Path):  # type: ignore[no-untyped-def]
    """Whole files that are no meshes, by their suffix, and what reads them."""
    recipe = Recipe(pockets=[Pocket(centre=(1, 2, 3))])
    library = {
        "kind": "inkwell-cast library",
        "version": 1,
        "channels": ["Colour"],
        "materials": [{"name": "brass", "id_color": "#aa8833", "colors": {"Colour": "#aa8833"}}],
    }
    write_meshes(folder / "a.icast", "Ring", recipe, [(torus(6, 4, name="ring_low.obj"), "0" * 64)])
    found = {
        "recipe.json": (recipe.model_dump_json().encode(), lambda path: Recipe.model_validate_json(path.read_bytes())),
        "receiver.json": (READY[0].portable().encode(), lambda path: read_receiver(path.read_bytes(), path.name)),
        "library.json": (json.dumps(library).encode(), lambda path: read_library(path.read_bytes(), path.name)),
        "piece.icast": ((folder / "a.icast").read_bytes(), read_piece),
        "project.json": (Project(settings={"reach": {"outward": 2}}).portable().encode(), read_project),
    }
    write_picture(folder / "sky.exr", "exr", np.random.default_rng(2).random((8, 16, 3)).astype(np.float16))
    found["sky.exr"] = (folder / "sky.exr").read_bytes(), _lit_by
    for name, suffix in SUFFIXES.items():
        values = np.random.default_rng(1).integers(0, 255, (9, 7, 3)).astype(np.float16 if name == "exr" else np.uint8)
        write_picture(folder / f"a{suffix}", name, values)
        found[f"picture{suffix}"] = (folder / f"a{suffix}").read_bytes(), read_picture
    return found


def _lit_by(path: pathlib.Path) -> None:
    """A picture of floats as the sky of a piece."""
    with_panorama(Recipe.model_validate({"light": {"panorama": str(path)}, "output": {"maps": ["light"]}}))


def _attempt(folder: pathlib.Path, kind: str, content: bytes, read) -> str:  # type: ignore[no-untyped-def]
    path, started = folder / kind, time.perf_counter()
    path.write_bytes(content)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            read(path)
    except (InputProblem, ValidationError):
        pass
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    spent = time.perf_counter() - started
    return f"it took {spent:.1f} s" if spent > LONGEST else ""
