"""Maps with settings drawn at random from all that they allow: each bakes to whole numbers, or is refused in words."""

import random
import tempfile
import traceback
from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import ValidationError

from inkwell_cast.core import maps
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.mesh.mesh import merge
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.recipe import Recipe

from ..shapes import cube, torus
from .outcome import Outcome

GROUPS = ("basis", "output", *dict.fromkeys(map_.GROUP for map_ in maps.REGISTRY.values() if map_.GROUP))
COSTLY = {"rays": 8, "bounces": 3, "levels": 2}  # at most
WORDS = ("", "everything #ffd9a0 4", "0 0 3 2; 1 1 1 0.5 #00ff00", "+y", "1 2 0", "0 0 0", "nobody #ffffff 1", "?")


def run(tries: int, seed: int) -> Outcome:
    outcome, chance, warm = Outcome("maps with settings at random", len(maps.REGISTRY)), random.Random(seed), Warm()
    meshes, refused = _meshes(), 0
    for n in range(tries):
        outcome.tries += 1
        chosen = chance.sample(list(maps.REGISTRY), 3)
        settings = Recipe.model_validate({"reach": {"outward": 4, "inward": 4}}).model_dump()
        settings["sheet"] |= {"width": 32, "height": 48, "samples": 4}
        for group in GROUPS:
            kind = Recipe.model_fields[group].annotation
            for name, field in kind.model_json_schema().get("properties", {}).items():  # type: ignore[union-attr]
                value = _value(name, field, chance)
                if value is not None and (_fits(kind, settings[group] | {name: value}) or chance.random() < 0.005):
                    settings[group][name] = value
        settings["output"]["maps"] = chosen
        try:
            made = bake(Recipe.model_validate(settings), meshes, warm=warm)
            with tempfile.TemporaryDirectory() as folder:
                save(made, folder)
        except (InputProblem, ValidationError):
            refused += 1
            continue
        except Exception:
            outcome.failures.append(f"try {n}, {chosen}: {traceback.format_exc(limit=-2)}")
            continue
        every = [image for sheet in made.sheets for image in (*sheet.images.values(), *sheet.exact.values())]
        if not all(np.isfinite(image).all() for image in every):
            outcome.failures.append(f"try {n}, {chosen}: values that are no numbers")
    outcome.notes.append(f"{refused:,} refused in words")
    return outcome


def _meshes() -> BakeMeshes:
    """A ring with a floater over it, and a box that glows, of two materials."""
    box = replace(cube(), name="box_high", object_names=("box_high",), uvs=(), positions=cube().positions * 0.3)
    high = [replace(torus(60, 30, name="ring_high"), uvs=()), box]
    above = replace(torus(24, 12, name="ring_float"), uvs=(), positions=torus(24, 12).positions * np.float32(1.02))
    lows = [torus(20, 10, name="ring_low"), replace(cube(), name="box_low", object_names=("box_low",))]
    return BakeMeshes([], [], [merge([*lows, *high, above], "scene.glb")])


def _fits(kind: Any, settings: dict[str, Any]) -> bool:
    try:
        kind.model_validate(settings)
    except ValidationError:
        return False
    return True


def _value(name: str, field: dict[str, Any], chance: random.Random) -> Any:
    """None for what is left as it is."""
    if chance.random() < 0.3 or "$ref" in field or field.get("type") in ("array", "object"):
        return None
    if "enum" in field:
        return chance.choice(field["enum"])
    if field.get("type") == "boolean":
        return chance.random() < 0.5
    if field.get("type") in ("number", "integer"):
        low = float(field.get("minimum", field.get("exclusiveMinimum", -10)))
        high = min(float(field.get("maximum", low + 100)), COSTLY.get(name, 1e30))
        value = chance.choice((low, high, low + (high - low) * chance.random() ** 3))
        return round(value) if field["type"] == "integer" else value
    if field.get("pattern", "").startswith("^#"):
        return f"#{chance.randrange(1 << 24):06x}"
    return chance.choice(WORDS) if field.get("type") == "string" else None
