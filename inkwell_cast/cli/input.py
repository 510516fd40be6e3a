"""What commands take: meshes and settings, and the bar that tells how far they are."""

import argparse
import json
import pathlib
import sys
from typing import Any

from ..core.bake.manifest import MeshFile, sha256_of
from ..core.base.errors import InputProblem
from ..core.formats import read_mesh
from ..core.handoff.piece_file import SUFFIX, PieceFile, read_piece
from ..core.mesh.mesh import Mesh
from ..core.piece.assembly import assemble
from ..core.piece.guessed_roles import as_given
from ..core.piece.piece import BakeMeshes
from ..core.rays.modifiers.straighten import stored_picture
from ..core.settings.editing import at_lod, on_their_own
from ..core.settings.map_sets import maps_of
from ..core.settings.material_library import join, read_library_file
from ..core.settings.pairing import Pairing, read_name
from ..core.settings.project import NAME, Project, find_project, receiver_in, recipe_in
from ..core.settings.reach_unit import with_reach_unit
from ..core.settings.receivers import Receiver, find_receiver
from ..core.settings.recipe import Recipe
from .bar import Bar

ONE_TO_ONE = (  # settings by group and name, and the options that give them as they are
    ("sheet", "samples", "samples"),
    ("sheet", "split", "sheets"),
    ("sheet", "channel", "channel"),
    ("output", "depth", "depth"),
    ("output", "format", "format"),
    ("basis", "green", "green"),
    ("limits", "judge", "judge"),
    ("normals", "mode", "normals"),
)


def recipe_of(options: argparse.Namespace, meshes: BakeMeshes | None = None, level: int | None = None) -> Recipe:
    """The recipe file's settings, or the defaults, changed by what was given on the command line.

    `meshes` say how large the low is, that of a `level` of detail if one is given, where a reach in scene units is
    given beside others that are shares of it. Meshes that lie far from the origin are taken nearer.
    """
    recipe = _asked_for(options, meshes, level)
    return taken(recipe, meshes) if meshes and not piece_of(options) else recipe


def taken(recipe: Recipe, meshes: BakeMeshes) -> Recipe:
    """The recipe as `as_given` makes it for these meshes; what was guessed is printed."""
    return as_given(recipe, meshes, lambda words: print(f"guess: {words}", file=sys.stderr))


def _asked_for(options: argparse.Namespace, meshes: BakeMeshes | None, level: int | None) -> Recipe:
    recipe = recipe_file(options)
    if getattr(options, "library", None):
        recipe = recipe.model_copy(update={"library": join(recipe.library, read_library_file(options.library))})
    receiver = receiver_of(options)
    if receiver:
        recipe = receiver.laid_over(recipe)
    if options.reach and meshes:
        recipe = with_reach_unit(recipe, "scene", _diagonal(recipe, meshes, level))
    settings = recipe.model_dump()
    if options.reach:
        settings["reach"] |= {"unit": "scene", "outward": options.reach[0], "inward": options.reach[1]}
    if options.fit:
        settings["reach"]["shape"] = "fitted"
    for name in ("clearance", "directions"):
        if getattr(options, name) is not None:
            settings["reach"][name] = getattr(options, name)
    if options.straighten == "flat":
        settings["reach"]["straighten"] = True
    elif options.straighten:
        settings["straight_picture"] = _picture(pathlib.Path(options.straighten))
    for given in options.set:
        set_value(settings, given)
    if "size" not in options:  # a command that bakes nothing
        return Recipe.model_validate(settings)
    if options.size:
        width, times, height = options.size.lower().partition("x")
        if not (width.isdigit() and (height if times else width).isdigit()):
            raise InputProblem("--size", f"“{options.size}” is not a size.", "Give width x height, such as 2048x1024.")
        settings["sheet"] |= {"width": int(width), "height": int(height or width)}
    if options.padding:
        settings["sheet"]["padding"] = int(options.padding) if options.padding.isdigit() else options.padding
    if options.maps:
        settings["output"]["maps"] = maps_of([key.strip() for key in options.maps.split(",") if key.strip()])
    for group, name, option in ONE_TO_ONE:
        value = getattr(options, option)
        if value is not None:
            settings[group][name] = value
    return Recipe.model_validate(settings)


def _diagonal(recipe: Recipe, meshes: BakeMeshes, level: int | None) -> float:
    return assemble(recipe if level is None else at_lod(recipe, str(level)), meshes).low.diagonal


def _picture(path: pathlib.Path) -> str:
    try:
        return stored_picture(path.read_bytes(), path.name)
    except OSError as error:
        raise InputProblem(str(path), f"It cannot be read ({error.strerror}).", "Give a grey PNG, or flat.") from error


def set_value(settings: dict[str, Any], given: str) -> None:
    """Put "group.field=value" into the settings of a recipe; the recipe judges the value."""
    name, times, text = given.partition("=")
    group, _, field = name.strip().partition(".")
    if not times or field not in settings.get(group, {}) or not isinstance(settings[group], dict):
        raise InputProblem(
            "--set", f"“{given}” sets nothing.", "Give NAME=VALUE, with a name of `inkwell-cast settings`."
        )
    try:
        settings[group][field] = json.loads(text)
    except ValueError:
        settings[group][field] = text


def recipe_file(options: argparse.Namespace) -> Recipe:
    """The settings of --recipe over those of the project, those of a piece file, or the defaults.

    --together and --alone on top.
    """
    piece = piece_of(options)
    recipe = piece[0].recipe.model_copy() if piece else Recipe()
    found = project_of(options)
    if options.recipe:
        try:
            text = options.recipe.read_text()
        except (OSError, UnicodeDecodeError) as error:
            raise InputProblem(
                str(options.recipe), f"The recipe cannot be read ({error}).", "Check its path."
            ) from error
        recipe = Recipe.model_validate_json(text)
        if found:
            recipe = recipe_in(*found, json.loads(text))
    elif found and not piece:
        recipe = recipe_in(*found)
    if options.together:
        recipe.pairing.together = True
    return on_their_own(recipe) if options.alone else recipe


def project_of(options: argparse.Namespace) -> tuple[Project, pathlib.Path] | None:
    """The project that the meshes of a command lie in, and its folder, said once. Raises InputProblem."""
    if not hasattr(options, "project"):
        named = [*options.low, *options.files, *options.high, *getattr(options, "paths", [])]
        options.project = find_project(named[0]) if named else None
        if options.project:
            print(f"project: {options.project[1] / NAME}", file=sys.stderr)
    found: tuple[Project, pathlib.Path] | None = options.project
    return found


def receiver_of(options: argparse.Namespace) -> Receiver | None:
    """The receiver of a command that takes one: as said, else that of the project. Raises InputProblem."""
    if "receiver" not in options:
        return None
    if options.receiver:
        return find_receiver(options.receiver)
    found = project_of(options)
    return receiver_in(*found) if found and not piece_of(options) else None


def piece_of(options: argparse.Namespace) -> tuple[PieceFile, list[Mesh]] | None:
    """The piece file among the files of a command, read once; None without one. Raises InputProblem."""
    given = [path for path in options.files if path.suffix.lower() == SUFFIX]
    if not given:
        return None
    if len(options.files + options.low + options.high) > 1:
        raise InputProblem(str(given[0]), "A piece file has all its meshes with it.", "Name it alone.")
    if not hasattr(options, "read_piece"):
        options.read_piece = read_piece(given[0])
    piece: tuple[PieceFile, list[Mesh]] = options.read_piece
    return piece


def name_of(options: argparse.Namespace) -> str:
    """What a piece of the command line is called: as said, as its file says, or after its first mesh."""
    piece = piece_of(options)
    if getattr(options, "name", ""):
        return str(options.name)
    if piece:
        return piece[0].name
    first: pathlib.Path = (options.low + options.files + options.high)[0]
    read = read_name(first.stem, Pairing())
    return (read[0].stem if read else first.stem) or first.stem


def meshes_of(options: argparse.Namespace, bar: Bar) -> tuple[BakeMeshes, list[MeshFile]]:
    """The meshes of a command line, and what the manifest says of their files."""
    if not options.files + options.low + options.high:
        raise InputProblem("The command", "No mesh is named.", "Give files, or --low and --high.")
    meshes, sources = BakeMeshes([], []), list[MeshFile]()
    piece = piece_of(options)
    if piece:
        meshes.named.extend(piece[1])
        for entry, mesh in zip(piece[0].meshes, piece[1], strict=True):
            sources.append(
                MeshFile(role="by name", file=entry.file, sha256=entry.sha256, triangles=len(mesh.triangles))
            )
        return meshes, sources
    for role, paths, into in (
        ("low", options.low, meshes.lows),
        ("high", options.high, meshes.highs),
        ("cage", getattr(options, "cage", []), meshes.cages),
        ("by name", options.files, meshes.named),
    ):
        for path in paths:
            bar.show(f"reading {path.name}", 0.0)
            mesh = read_mesh(path)
            into.append(mesh)
            sources.append(MeshFile(role=role, file=path.name, sha256=sha256_of(path), triangles=len(mesh.triangles)))
    return meshes, sources
