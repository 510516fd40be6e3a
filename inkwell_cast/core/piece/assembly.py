"""Assembling a piece: files treated, objects paired, lows joined to one mesh."""

from dataclasses import dataclass, replace

import numpy as np

from ..base.array_types import I32
from ..mesh.adjacency import bends, edges_of, shaded
from ..mesh.fixes import seam_normals
from ..mesh.mesh import Mesh, merge, values_at_corners
from ..mesh.normals import smooth, with_normals
from ..mesh.subdivision import subdivided
from ..settings.files import Role
from ..settings.maps import Subdivision
from ..settings.mends_overlay import mended
from ..settings.pairing import Paired, Part, pair_up
from ..settings.recipe import Recipe
from ..settings.scopes import in_force, scopes
from .copies import copies_of
from .piece import Assembly, BakeMeshes, by_file, take
from .repeated import with_repeats
from .scene_cache import Slot, Warm


def parts_of(meshes: list[Mesh]) -> list[Part]:
    return [Part(mesh.name, name) for mesh in meshes for name in mesh.object_names]


def with_roles(recipe: Recipe, given: list[tuple[str, Mesh, Role | None]]) -> Recipe:
    """The recipe with the roles that files were given in; a role that it already has stays."""
    files = dict(recipe.files)
    for name, _, role in given:
        settings = recipe.file(name)
        if role and not settings.role:
            files[name] = settings.model_copy(update={"role": role})
    return recipe.model_copy(update={"files": files})


def assemble(recipe: Recipe, meshes: BakeMeshes, warm: Warm | None = None) -> Assembly:
    """Put a piece together. Nothing is refused here; see `checks`."""
    given = meshes.distinct()
    asked = with_roles(recipe, given)
    recipe, warm = mended(asked), warm or Warm()
    files = warm.treated({name: mesh for name, mesh, _ in given}, recipe)
    settings = (recipe.files, recipe.pairing, recipe.normals, recipe.subdivision, recipe.levels, recipe.sheet.channel)
    key = f"{settings} {[(name, id(mesh)) for name, mesh in files.items()]}"
    joined = warm.once(JOINED, key, lambda: _join(recipe, files))
    shapes = (recipe.files, recipe.pairing, recipe.subdivision, recipe.sheet.channel, list(map(id, files.values())))
    copies = warm.once(COPIES, f"{shapes}", lambda: _Copies(list(files.values()), _copies(recipe, files, joined)))
    if recipe.sheet.repeat != "none":
        files = warm.once(REPEATED, f"{recipe.sheet.repeat} {key}", lambda: with_repeats(recipe, files, joined.paired))
    return Assembly(
        recipe,
        files,
        joined.paired,
        joined.low,
        joined.low_pair,
        joined.keys,
        list(joined.cages),
        copies.of,
        given=asked,
    )


@dataclass(frozen=True, slots=True)
class _Joined:
    """What `assemble` makes of treated files; those are held, so that their identities stay theirs."""

    files: list[Mesh]
    paired: Paired
    low: Mesh
    low_pair: I32
    keys: tuple[str, ...]
    cages: list[Mesh | None]


@dataclass(frozen=True, slots=True)
class _Copies:
    """The copies in a joined low, which neither reach nor normals move; files are held as in `_Joined`."""

    files: list[Mesh]
    of: I32


COPIES = Slot[_Copies]()
JOINED, REPEATED = Slot[_Joined](), Slot[dict[str, Mesh]]()


def _join(recipe: Recipe, files: dict[str, Mesh]) -> _Joined:
    paired, cages = pair_up(parts_of(list(files.values())), recipe.pairing, recipe.files), list[Mesh | None]()
    for pair in paired.pairs:
        cage = [_cage_part(recipe, files[part.file], part, files, pair.lows) for part in pair.cages]
        cages.append(merge(cage, pair.name) if cage else None)
    return _Joined(list(files.values()), paired, *_lows_of(recipe, files, paired), cages)


def _copies(recipe: Recipe, files: dict[str, Mesh], joined: "_Joined | Assembly") -> I32:
    highs = [[take(files[file], names) for file, names in by_file(p.giving).items()] for p in joined.paired.pairs]
    return copies_of(joined.low, joined.low_pair, recipe.sheet.channel, highs)


def _lows_of(recipe: Recipe, files: dict[str, Mesh], paired: Paired) -> tuple[Mesh, I32, tuple[str, ...]]:
    """Every paired low as one mesh, the pair of each triangle and the part of each object."""
    pieces, of_pair, keys = [], [], list[str]()
    for n, pair in enumerate(paired.pairs):
        for part in pair.lows:
            piece = subdivided(low_part(recipe, files[part.file], part, pair.name), recipe.subdivision)
            pieces.append(piece)
            of_pair.append(np.full(len(piece.triangles), n, np.int32))
            keys.append(part.key)
    if not pieces:
        empty = Mesh("low", np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))
        return empty, np.zeros(0, np.int32), ()
    return merge(pieces, "low"), np.concatenate(of_pair), tuple(keys)


def undivided(assembly: Assembly) -> Assembly:
    """The piece with its low as the artist made it: neither subdivided nor displaced."""
    if assembly.recipe.subdivision == Subdivision() and assembly.relief is None:
        return assembly
    recipe = assembly.recipe.model_copy(update={"subdivision": Subdivision()})
    low, low_pair, keys = _lows_of(recipe, assembly.files, assembly.paired)
    plain = replace(assembly, low=low, low_pair=low_pair, keys=keys, relief=None)
    return replace(plain, copies=_copies(recipe, assembly.files, plain))


def _cage_part(recipe: Recipe, mesh: Mesh, part: Part, files: dict[str, Mesh], lows: list[Part]) -> Mesh:
    """One object of a cage mesh; one with as many faces as a low is divided with it, so that they go on matching."""
    piece = take(mesh, (part.name,))
    sizes = [len(take(files[low.file], (low.name,)).triangles) for low in lows]
    return subdivided(with_normals(piece), recipe.subdivision) if len(piece.triangles) in sizes else piece


def low_part(recipe: Recipe, mesh: Mesh, part: Part, pair: str = "") -> Mesh:
    """One object of the low with its normals as the most specific level sets them."""
    piece = take(mesh, (part.name,))
    values = in_force(recipe, scopes(pair, part.key))
    mode, angle, channel = values["mode"].value, values["angle"].value, recipe.sheet.channel
    if mode == "keep" or not len(piece.triangles):
        return with_normals(piece)
    if mode == "smooth":
        return replace(piece, normals=smooth(piece))
    if mode == "seams":
        if channel >= len(piece.uvs):
            return with_normals(piece)
        return replace(piece, normals=values_at_corners(seam_normals(piece, channel)))
    edges = edges_of(piece)
    hard = bends(piece, edges) > angle
    return replace(piece, normals=values_at_corners(shaded(piece, edges, hard, mode == "weighted")))
