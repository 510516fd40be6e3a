"""What the numbers of a bake cannot say, in sentences: values beyond a range, mid-grey, samples left out."""

from typing import TYPE_CHECKING

from .. import maps
from ..cast.adaptive import FIRST

if TYPE_CHECKING:
    from .baked import Bake

CLIPPED = 0.0005  # share of the texels from which on it is said
MOVES = ("height", "displacement")  # maps by which a receiver moves a surface


def notes_on(bake: "Bake") -> list[str]:
    """Sentences, none where there is nothing to be said."""
    return [*_clipped(bake), *_mid_grey(bake), *_adaptive(bake)]


def _clipped(bake: "Bake") -> list[str]:
    said = []
    for sheet in bake.sheets:
        for key, facts in sheet.facts.items():
            share, group = facts.get("clipped_share", 0.0), getattr(bake.recipe, key, None)
            fixed = any(getattr(group, name, "auto") != "auto" for name in ("range", "strength", "white"))
            if fixed and share > CLIPPED:
                where = f" of {sheet.name}" if sheet.name else ""
                said.append(
                    f"{maps.REGISTRY[key].LABEL}{where}: {share:.1%} of the texels lie beyond its range and are "
                    "clipped; set a wider one, or auto."
                )
            if "beyond_half" in facts:
                said.append(
                    f"{maps.REGISTRY[key].LABEL}: {facts['beyond_half']:,} texels hold more than the 65,504 of a half "
                    "and are clipped; choose 32 bits."
                )
    return said


def _mid_grey(bake: "Bake") -> list[str]:
    """Eight bits have no middle: 128 of 255 lies above it by a 255th of the range to either side."""
    said = []
    for key in MOVES:
        if key not in bake.recipe.output.maps:
            continue
        form = bake.recipe.output.form_of(key)
        whites = [sheet.facts[key]["white"] for sheet in bake.sheets if key in sheet.facts]
        if form.steps == 8 and not form.exact and whites:
            off = max(whites) / 255
            said.append(
                f"{maps.REGISTRY[key].LABEL}: in 8 bits mid-grey is 128 of 255, which is +0.2 % of the range or "
                f"{off:.2g} scene units where nothing stands off. Choose 16 bits if a surface is moved by it."
            )
    return said


def _adaptive(bake: "Bake") -> list[str]:
    sheet = bake.recipe.sheet
    if not sheet.adaptive or sheet.samples not in FIRST:
        return []
    few = len(FIRST[sheet.samples])
    texels = sum(baked.cast.texels for baked in bake.sheets)
    left = sum(int(((baked.cast.covered == few) & (baked.cast.low_triangle >= 0)).sum()) for baked in bake.sheets)
    if not texels or not left:
        return []
    saved = left * (sheet.samples - few) / (texels * sheet.samples)
    return [
        f"Adaptive sampling decided {left / texels:.0%} of the texels by {few} samples, which saved {saved:.0%} of the "
        f"rays. A rim or wire thinner than a "
        f"texel can slip between those: such places are as rough as a bake of {few} samples, not of {sheet.samples}."
    ]
