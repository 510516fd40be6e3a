"""Doing what a finding offers."""

from ..piece.near_origin import Nearer, taken_nearer
from ..settings.editing import at_lod, on_their_own, place_part, set_file
from ..settings.recipe import Recipe
from . import Remedy


def apply(recipe: Recipe, remedy: Remedy) -> Recipe:
    """Do what a finding offers."""
    if remedy.kind == "together":
        return recipe.model_copy(update={"pairing": recipe.pairing.model_copy(update={"together": True})})
    if remedy.kind == "alone":
        return on_their_own(recipe)
    if remedy.kind == "level":
        return at_lod(recipe, remedy.level)
    if remedy.kind == "own_source":
        return place_part(recipe, f"{remedy.file}/{remedy.part}", role="self")
    if remedy.kind == "pair":
        return place_part(recipe, f"{remedy.file}/{remedy.part}", pair=remedy.pair)
    if remedy.kind == "nearer":
        return taken_nearer(recipe, Nearer(remedy.move, remedy.scale), remedy.files)
    if remedy.kind == "align":
        turn = {"turn": remedy.turn} if remedy.turn else {}
        return set_file(recipe, remedy.file, scale=remedy.scale, move=remedy.move, **turn)
    if remedy.kind == "float":
        return place_part(recipe, f"{remedy.file}/{remedy.part}", role="float")
    fixes = [*recipe.file(remedy.file).fixes, *remedy.fixes]
    return set_file(recipe, remedy.file, fixes=[fix.model_dump() for fix in fixes])
