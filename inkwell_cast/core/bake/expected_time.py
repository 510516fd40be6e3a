"""How long a bake will take, told before a ray is cast from how long those before took on this machine.

Each stage is taken to be in proportion to one thing: triangles, texels, or samples times what a layer costs. What
stands in the book is how many of these the last bakes had, and their seconds. The pace in the middle is believed, large
bakes counting as more: a first bake waits for its compiler, a warm one leaves out what is known, a small one tells
little.
"""

import contextlib
import os
import pathlib

import numpy as np
from pydantic import BaseModel, PositiveFloat, ValidationError

from .. import maps
from ..base.atomic_files import whole
from ..maps import LAYERS
from ..piece.piece import Assembly
from ..settings.recipe import Recipe
from ..uv.layout import SheetPlan
from .baked import Bake
from .judged_at import SIDE
from .stages import SAVING, STAGES

KEPT = 15  # bakes that each stage remembers
LEAST = 0.01  # seconds: what took less tells nothing
OF_TRIANGLES = ("checking", "scene", "preparing")
OF_TEXELS = ("maps", "writing", "rounding")
OF_JUDGED = ("likeness", "coverage", "flaws")  # of texels at the size that they are judged at
AFTERWARDS = ("writing", "rounding", *OF_JUDGED)
LEAST_SHARE = 0.05  # of baking, and of what comes after it
BOOK = "pace.json"
CASTING = "casting "  # what the stages of layers begin with


class Book(BaseModel):
    """Of each stage how many things the last bakes had, and their seconds, the newest last."""

    stages: dict[str, list[tuple[PositiveFloat, PositiveFloat]]] = {}


def learn(bake: Bake, seconds: dict[str, float]) -> None:
    """Keep what the stages of a bake took; nothing is said where that cannot be written."""
    place = _place()
    if place is None or bake.brought:
        return
    texels = sum(sheet.cast.covered.size for sheet in bake.sheets)
    on_low = sum(sheet.cast.texels for sheet in bake.sheets)
    of = _things(bake.recipe, len(bake.sculpt.mesh.triangles), texels, on_low)
    book = _read(place)
    for stage, spent in seconds.items():
        if spent >= LEAST and of.get(stage):
            book.stages[stage] = [*book.stages.get(stage, []), (of[stage], spent)][-KEPT:]
    with contextlib.suppress(OSError), whole(place) as partial:
        partial.write_text(book.model_dump_json(), encoding="utf-8")


def expected(assembly: Assembly, sheets: list[SheetPlan]) -> float | None:
    """Seconds that a cold bake of a piece will take about; None before any bake of its kind was made here."""
    paces = _paces()
    texels = sum(sheet.width * sheet.height for sheet in sheets)
    on_low = sum(sheet.width * sheet.height * _share(sheet) for sheet in sheets)
    of = _things(assembly.recipe, _triangles(assembly), texels, on_low)
    if f"{CASTING}rays" not in paces:
        return None
    unknown = paces[f"{CASTING}rays"]  # what a layer costs is said in times of the rays
    return sum(count * paces.get(stage, unknown if stage.startswith(CASTING) else 0.0) for stage, count in of.items())


def share_of_baking(assembly: Assembly) -> float:
    """The share of a bake's time, 0 to 1, that is over when its maps are there and are written and judged next."""
    paces = _paces()
    texels = float(assembly.recipe.sheet.width * assembly.recipe.sheet.height)
    of = _things(assembly.recipe, _triangles(assembly), texels, texels)
    spent = {stage: count * paces[stage] for stage, count in of.items() if stage in paces}
    after = sum(spent.get(stage, 0.0) for stage in AFTERWARDS)
    return min(max(1 - after / sum(spent.values()), LEAST_SHARE), 1 - LEAST_SHARE) if after else 0.5


def shares_of_stages(assembly: Assembly) -> tuple[dict[str, float], dict[str, float]]:
    """What each stage of a bake takes of its time, and each of what comes after it, from 0 to 1.

    By the book, as far as that is known. Half is what it takes at the defaults: the bakes in the book may have been of
    other kinds.
    """
    paces = _paces()
    texels = float(assembly.recipe.sheet.width * assembly.recipe.sheet.height)
    spent = dict[str, float]()
    for stage, count in _things(assembly.recipe, _triangles(assembly), texels, texels).items():
        name = stage.partition(" ")[0]
        spent[name] = spent.get(name, 0.0) + count * paces.get(stage, 0.0)
    return _weighed(STAGES, spent), _weighed(SAVING, spent)


def _weighed(usual: dict[str, float], spent: dict[str, float]) -> dict[str, float]:
    """Shares of stages, between the usual ones and those of the seconds that they will take, as far as known."""
    whole, known = sum(spent.get(stage, 0.0) for stage in usual), all(spent.get(stage) for stage in usual)
    return {stage: (share + spent[stage] / whole) / 2 if known else share for stage, share in usual.items()}


def in_words(seconds: float) -> str:
    """A time that is not known well: "8 seconds", "3 minutes"."""
    unit, word = (1, "second") if seconds < 90 else (60, "minute") if seconds < 5400 else (3600, "hour")
    count = max(round(seconds / unit), 1)
    return f"{count} {word}{'s' if count > 1 else ''}"


def _paces() -> dict[str, float]:
    """Seconds for one thing of each stage that the book knows."""
    place = _place()
    return {stage: _middle(known) for stage, known in _read(place).stages.items() if known} if place else {}


def _middle(known: list[tuple[float, float]]) -> float:
    """The pace, seconds for one thing, that half of all things were slower than."""
    paces = sorted((spent / things, things) for things, spent in known)
    passed = np.cumsum([things for _, things in paces])
    return paces[int(np.searchsorted(passed, passed[-1] / 2))][0]


def _things(recipe: Recipe, triangles: int, texels: float, on_low: float) -> dict[str, float]:
    """What each stage of a bake is in proportion to."""
    samples = on_low * recipe.sheet.samples
    layers = {key for name in recipe.output.maps if (key := maps.REGISTRY[name].LAYER)}
    casting = {f"{CASTING}{key}": samples * LAYERS[key].cost(recipe) for key in layers}
    return {
        **dict.fromkeys(OF_TRIANGLES, float(triangles)),
        f"{CASTING}rays": samples,
        **casting,
        **{stage: texels * (1 if stage == "rounding" else len(recipe.output.maps)) for stage in OF_TEXELS},
        **dict.fromkeys(OF_JUDGED, min(texels, float(SIDE**2))),
    }


def _triangles(assembly: Assembly) -> int:
    """How many triangles rays of all pairs can strike."""
    counts = {name: np.bincount(mesh.objects, minlength=1) for name, mesh in assembly.files.items()}
    parts = [part for pair in assembly.paired.pairs for part in pair.giving]
    return sum(int(counts[part.file][assembly.files[part.file].object_names.index(part.name)]) for part in parts)


def _share(sheet: SheetPlan) -> float:
    """How much of a sheet its triangles cover; what lies over each other counts once at most."""
    a, b = sheet.uvs[:, 1] - sheet.uvs[:, 0], sheet.uvs[:, 2] - sheet.uvs[:, 0]
    return float(min(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2, 1.0))


def _place() -> pathlib.Path | None:
    """The book beside the compiled kernels, which are this machine's too."""
    kernels = pathlib.Path(os.environ.get("NUMBA_CACHE_DIR", ""))
    return kernels.parent / BOOK if kernels.name.startswith("kernels-") and kernels.is_dir() else None


def _read(place: pathlib.Path) -> Book:
    try:
        return Book.model_validate_json(place.read_text(encoding="utf-8"))
    except (OSError, ValidationError, UnicodeDecodeError):
        return Book()
