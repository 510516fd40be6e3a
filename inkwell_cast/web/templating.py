"""Templates and what they all know."""

import pathlib
from collections.abc import Callable, Sequence
from datetime import datetime
from hashlib import sha256
from typing import Annotated, Any, Literal, get_args, get_origin

import anyio.from_thread
from fastapi import Depends, Request
from fastapi.templating import Jinja2Templates
from pydantic import BaseModel
from starlette.datastructures import FormData
from starlette.responses import Response

from ..core import maps
from ..core.bake.range_words import range_words
from ..core.base.errors import InputProblem
from ..core.base.figures import figure
from ..core.formats import COMPANIONS, REGISTRY
from ..core.handoff.mix import MIXES
from ..core.mesh.fixes import WORDS
from ..core.review.from_afar import DISTANCES
from ..core.review.likeness import BETTER, SCALE, WORSE
from ..core.settings.item_keys import item_keys
from ..core.settings.map_names import IN_TANGENT_BASIS
from ..core.settings.map_sets import PURPOSES
from ..core.settings.map_sets import READY as MAP_SETS
from ..core.settings.mends_overlay import BUDGET, WORTH, add_mend
from ..core.settings.output import DEPTHS
from ..core.settings.reach_unit import in_other_unit
from ..core.settings.recipe import Recipe
from ..core.settings.scopes import each_of
from ..demo import TOUR_ON
from ..store import bakes
from ..store.bakes import BakeRecord, BakeRow
from ..store.meshes import MeshRow
from .cache_keys import DIFFERENCE, LIKENESS, PARALLAX, meshes_key
from .services.services import Services

MOST_BYTES = 4 << 20  # of a small file
HERE = pathlib.Path(__file__).parent
STEPS = ("meshes", "cage", "basis", "maps", "review", "handoff")
STAGE_WORDS = {
    "compiling": "Preparing, first start only",
    "reading": "Reading meshes",
    "keeping": "Keeping a copy",
    "drawing": "Drawing the sculpt",
    "measuring": "Measuring the sculpt",
    "fitting": "Fitting the cage",
    "trying": "Trying on small bakes",
    "mending": "Trying mends on small bakes",
    "checking": "Checking",
    "handing": "Handing off",
    "preparing": "Preparing the low",
    "scene": "Building the scene",
    "casting": "Casting",
    "looking": "Looking from all around",
    "maps": "Deriving maps",
    "writing": "Writing files",
    "rounding": "Reading the files back",
    "likeness": "Looking from all around",
    "coverage": "Measuring the cage",
    "flaws": "Finding flaws",
}


def stage_words(stage: str) -> str:
    """A stage of a job as the page says it, with the layer and pair that a bake is at; "" for one that is not known."""
    kind, _, at = stage.partition(" ")
    layer, _, pair = at.partition(" · ")
    words = STAGE_WORDS.get(kind, "")
    map_ = maps.REGISTRY.get(layer) or next((m for m in maps.REGISTRY.values() if layer and layer == m.LAYER), None)
    named = map_.LABEL.lower() if map_ else ""
    if kind == "handing":
        return f"{words}: {at.partition(' ')[2].lower()}" if " " in at else words
    words = f"{words}: {named}" if named else words
    return f"{words}, {pair}" if pair else words


templates = Jinja2Templates(HERE / "templates")


def keyed(items: Sequence[BaseModel]) -> list[tuple[str, BaseModel]]:
    """What stands in a list, each with the key by which a change finds it."""
    return list(zip(item_keys(items), items, strict=True))


def count(number: int) -> str:
    return _thin(f"{number:,}")


def units(value: float) -> str:
    """A distance in scene units as `figure` tells it."""
    return _thin(figure(value))


def _thin(grouped: str) -> str:
    return grouped.replace(",", "\u202f")


def percent(share: float) -> str:
    """A share with four figures at most; 100 only where nothing is left over."""
    return "100" if share >= 1 else f"{min(100 * share, 99.99):.2f}"


def duration(seconds: float | None) -> str:
    if seconds is None:
        return ""
    if seconds < 9.95:
        return f"{seconds:.1f} s"
    return f"{seconds:.0f} s" if seconds < 99.5 else f"{seconds / 60:.0f} min"


def when(seconds: float | None) -> str:
    """A moment as an artist looks for it: the time today, else the day too."""
    if seconds is None:
        return ""
    moment = datetime.fromtimestamp(seconds)
    return moment.strftime("%H:%M" if moment.date() == datetime.now().date() else "%d %b, %H:%M")


def in_bytes(size: float) -> str:
    """A size on disk, in powers of a thousand."""
    for unit in ("B", "kB", "MB"):
        if size < 999.5:
            return f"{size:.0f} {unit}" if size >= 9.95 or unit == "B" else f"{size:.1f} {unit}"
        size /= 1000
    return f"{size:.1f} GB"


def short(key: str) -> str:
    """The name of a part FILE/OBJECT without its file."""
    return key.rpartition("/")[2]


def spark(values: list[float], width: int = 118, height: int = 30) -> str:
    """Points of a small line through some figures, oldest first, for an SVG polyline."""
    top = max(values) or 1
    step = width / max(len(values) - 1, 1)
    return " ".join(f"{3 + i * step:.1f},{3 + (1 - v / top) * height:.1f}" for i, v in enumerate(values))


def scope_label(scope: str) -> str:
    """A scope as an artist reads it: "piece", a pair's or an object's name, or of how many parts it speaks."""
    if len(several := each_of(scope)) > 1:
        return f"{len(several)} parts"
    kind, _, name = scope.partition(":")
    return name.rpartition("/")[2] if kind == "object" else name or "piece"


def fields_of(group: str) -> list[dict[str, Any]]:
    """The settings of a group of the recipe that a form can show, with how: as a switch, a choice, text or a number."""
    fields = []
    for name, f in Recipe.model_fields[group].annotation.model_fields.items():  # type: ignore[union-attr]
        kind, options = "number", []
        if f.annotation is bool:
            kind = "switch"
        elif get_origin(f.annotation) is Literal:
            kind, options = "choice", list(get_args(f.annotation))
        elif get_origin(f.annotation) is dict:
            continue
        elif f.annotation is str:
            kind = "text"
        unit = (f.json_schema_extra or {}).get("unit", "")  # type: ignore[union-attr]
        fields.append(
            {"name": name, "title": f.title, "reason": f.description, "unit": unit, "kind": kind, "options": options}
        )
    return fields


templates.env.globals |= {
    "STEPS": STEPS,
    "STAGE_WORDS": STAGE_WORDS,
    "stage_words": stage_words,
    "TOUR_ON": TOUR_ON,
    "MAPS": maps.REGISTRY,
    "PURPOSES": PURPOSES,
    "MAP_SETS": MAP_SETS,
    "Recipe": Recipe,
    "DEPTHS": DEPTHS,
    "MIXES": MIXES,
    "DISTANCES": DISTANCES,
    "IN_TANGENT_BASIS": IN_TANGENT_BASIS,
    "SCALE": SCALE,
    "BETTER": BETTER,
    "MENDING_BAKES": BUDGET + 1,
    "WORTH": WORTH,
    "WORSE": WORSE,
    "FIX_WORDS": WORDS,
    "fields_of": fields_of,
    "range_words": range_words,
    "PICTURED": {key for key in maps.REGISTRY if (HERE / "guide" / "pictures" / f"map-{key}.png").is_file()},
    "ACCEPT": ",".join([*REGISTRY, *COMPANIONS]),
}


def services_of(request: Request) -> Services:
    services: Services = request.app.state.services
    return services


def gone_of(request: Request) -> Callable[[], bool]:
    """What says, asked from a thread of a request, whether its client has gone away."""
    return lambda: anyio.from_thread.run(request.is_disconnected)


async def _sent_form(request: Request) -> FormData:
    return await request.form()


SentForm = Annotated[FormData, Depends(_sent_form)]  # the fields of a request's form


async def _small_body(request: Request, name: str) -> bytes:
    body = b""
    async for chunk in request.stream():
        body += chunk
        if len(body) > MOST_BYTES:
            raise InputProblem(name, f"It is larger than {MOST_BYTES >> 20} MB.", "Choose a smaller file.")
    return body


SmallBody = Annotated[bytes, Depends(_small_body)]  # of a request whose body is a small file; larger ones are refused


def render(request: Request, name: str, **context: Any) -> Response:
    return templates.TemplateResponse(request, name, context | {"nonce": request.state.nonce})


def stale(row: BakeRecord, recipe: Recipe, rows: list[MeshRow]) -> str:
    """Why a bake no longer shows the piece as it is: "meshes", "settings", or an empty string.

    A map that was made elsewhere follows no settings.
    """
    if row.meshes != meshes_key(rows):
        return "meshes"
    if row.summary.brought:
        return ""
    wanted = add_mend(recipe, row.trial) if row.trial else recipe
    free = {name: getattr(row.recipe, name) for name in ("handoff", "limits", "world")}  # they need no other bake
    wanted = wanted.model_copy(update=free)
    return "" if row.recipe in (wanted, wanted.proof()) else "settings"


def called(row: BakeRow) -> str:
    """What a bake is called in short."""
    kind = "map" if row.summary.brought else "trial" if row.tries else "proof" if row.proof else "bake"
    return row.name or f"the {kind} of {when(row.ended)}"


templates.env.filters |= {
    "keyed": keyed,
    "hash": lambda text: sha256(text.encode()).hexdigest()[:12],
    "other_unit": in_other_unit,
    "when": when,
    "bytes": in_bytes,
    "short": short,
    "map_label": lambda key: maps.REGISTRY[key].LABEL,
    "called": called,
    "comparable": bakes.comparable,
    "count": count,
    "units": units,
    "percent": percent,
    "duration": duration,
    "spark": spark,
    "scope": scope_label,
}


ANGLES = {LIKENESS: "Likeness", PARALLAX: "Parallax", DIFFERENCE: "Better and worse"}


def bake_facts(row: BakeRecord, recipe: Recipe, rows: list[MeshRow], before: BakeRow | None) -> dict[str, Any]:
    """What the views need to know of a finished bake, and of the one that it is compared with."""
    sheets = row.manifest.sheets if row.manifest else []
    rated = [LIKENESS] if any(s.heat for s in sheets) else []
    rated += [PARALLAX] if any(s.parallax for s in sheets) else []
    rated += [DIFFERENCE] if before and bakes.comparable(row, before) else []
    return {
        "id": row.id,
        "name": called(row),
        "maps": list(row.recipe.output.maps) + rated,
        "labels": {k: maps.REGISTRY[k].LABEL for k in row.recipe.output.maps} | ANGLES,
        "clipped": [m.key for m in (row.manifest.maps if row.manifest else []) if m.facts.get("clipped_share")],
        "sheets": [s.model_dump(include={"name", "width", "height"}) for s in row.manifest.sheets]
        if row.manifest
        else [],
        "basis": row.recipe.basis.model_dump(),
        "stale": stale(row, recipe, rows),
        "seconds": duration(row.seconds),
        "seen": row.summary.likeness,
        "flaws": row.summary.flaws,
    }
