"""The commands handoff, receivers and piece: what leaves the program, and what comes back as a whole."""

import argparse
import json
import pathlib
import tempfile

from ..core.base.errors import InputProblem
from ..core.handoff.bake_on_disk import Finished
from ..core.handoff.earlier_bake import in_folder, in_piece
from ..core.handoff.hand_off import hand_off
from ..core.handoff.handoff_preview import HandoffPreview, preview_handoff
from ..core.handoff.piece_file import SUFFIX, read_contents, unpack_piece, write_meshes
from ..core.handoff.plan import refuse_unready
from ..core.maps.displacement import displaced
from ..core.piece.assembly import assemble
from ..core.piece.piece import Assembly
from ..core.piece.scene_cache import Warm
from ..core.settings.handoff import Handoff
from ..core.settings.material_library import Library
from ..core.settings.receivers import READY, Receiver, find_receiver, schema
from .bar import Bar
from .commands import baked, saving, tell
from .input import meshes_of, name_of, piece_of, receiver_of, recipe_file, recipe_of

CANNOT_BE = 3  # exit code for a handoff that something stands in the way of


def run_handoff(options: argparse.Namespace) -> int:
    """Bake, and hand off what came of it; with --plan say what that would be, exit code 3 where it cannot."""
    bar, name = Bar(), name_of(options)
    try:
        asked = recipe_of(options)
        handoff = _asked_for(asked.handoff, options)
        if options.plan:
            meshes, _ = meshes_of(options, bar)
            assembly = assemble(recipe_of(options, meshes), meshes)
            bar.end()
            return tell_plans([preview_handoff(assembly, name, handoff, options.out)], options.json)
        with tempfile.TemporaryDirectory() as folder:
            place, receiver = pathlib.Path(folder), receiver_of(options)
            if options.baked is None:
                refuse_unready(handoff, name, asked, options.out, handoff.existing)
                made, sources = baked(options, bar)
                manifest = made.save(place, sources, place, progress=saving(made, bar))
                handoff = _asked_for(made.recipe.handoff, options)
                finished = Finished.of_folder(name, manifest, place, place)
                assembly, warm = made.bake.assembly, made.bake.warm
            else:
                finished, assembly, warm = _earlier(options, name, bar, place)
                if receiver is None and options.recipe is None:
                    handoff = _asked_for(finished.manifest.recipe.handoff, options)
            handed = hand_off(
                finished, assembly, warm, handoff, options.out, receiver.name if receiver else "", progress=bar.show
            )
    finally:
        bar.end()
    tell(finished.manifest)
    print(f"{len(handed.manifest.files)} files and their manifest in {handed.path}")
    if handed.words:
        print(handed.words)
    return 0


def _earlier(
    options: argparse.Namespace, name: str, bar: Bar, scratch: pathlib.Path
) -> tuple[Finished, Assembly, Warm]:
    """A bake of before, and its piece as that put it together. Raises InputProblem."""
    piece, warm = piece_of(options), Warm()
    meshes, sources = meshes_of(options, bar)
    if piece:
        finished = in_piece(unpack_piece(options.files[0], scratch), scratch, options.baked)
    elif options.baked:
        finished = in_folder(pathlib.Path(options.baked), name, sources, scratch)
    else:
        raise InputProblem("--baked", "It names no folder.", "Give the one that `inkwell-cast bake` wrote.")
    assembly = displaced(assemble(finished.manifest.recipe, meshes, warm), warm)
    return finished, assembly, warm


def _asked_for(handoff: Handoff, options: argparse.Namespace) -> Handoff:
    """The settings of a handoff with what the command line says on top."""
    said = {"existing": options.existing, "shared": options.shared or None}
    return handoff.model_copy(update={name: value for name, value in said.items() if value is not None})


def tell_plans(plans: list[HandoffPreview], as_json: bool) -> int:
    """Print what handoffs would be; exit code 3 where one cannot."""
    if as_json:
        print(json.dumps([each.model_dump() for each in plans], indent=2))
    else:
        print("".join(each.table() for each in plans), end="")
    return CANNOT_BE if any(each.problems for each in plans) else 0


def list_receivers(options: argparse.Namespace) -> int:
    for receiver in READY:
        print(f"{receiver.name}\n    {receiver.does}")
    return 0


def show_receiver(options: argparse.Namespace) -> int:
    print(find_receiver(options.receiver).portable(), end="")
    return 0


def show_schema(options: argparse.Namespace) -> int:
    print(json.dumps(schema(), indent=2))
    return 0


def make_receiver(options: argparse.Namespace) -> int:
    """A receiver from the settings of a piece file or a recipe."""
    receiver = Receiver.of(recipe_of(options), options.name, options.does)
    _written(options.out, receiver.portable())
    print(f"{options.out}: receiver “{receiver.name}”")
    return 0


def save_piece(options: argparse.Namespace) -> int:
    """Meshes and settings into one portable file."""
    if options.out.suffix.lower() != SUFFIX:
        raise InputProblem(str(options.out), "A piece file ends with .icast.", f"Write {options.out.stem}{SUFFIX}.")
    bar = Bar()
    try:
        meshes, sources = meshes_of(options, bar)
        recipe = recipe_of(options, meshes)
        files = dict(recipe.files)
        for role, given in (("low", meshes.lows), ("high", meshes.highs)):
            for mesh in given:
                files[mesh.name] = recipe.file(mesh.name).model_copy(update={"role": role})
        recipe = recipe.model_copy(update={"files": files})
        every = [*meshes.lows, *meshes.highs, *meshes.cages, *meshes.named]
        hashes = [source.sha256 for source in sources]
        try:
            write_meshes(options.out, name_of(options), recipe, list(zip(every, hashes, strict=True)))
        except OSError as error:
            raise _unwritten(options.out, error) from error
    finally:
        bar.end()
    print(f"{options.out}: {len(every)} meshes with their settings")
    return 0


def show_piece(options: argparse.Namespace) -> int:
    """What a piece file holds."""
    piece = read_contents(options.piece)
    if options.json:
        print(piece.model_dump_json(by_alias=True, indent=2))
        return 0
    print(f"{piece.name}: {len(piece.meshes)} meshes, {len(piece.bakes)} bakes, {len(piece.recipe.mends)} mends")
    for mesh in piece.meshes:
        print(f"  {mesh.file}  {mesh.sha256[:12]}…")
    return 0


def export_library(options: argparse.Namespace) -> int:
    """The material library of a piece file or a recipe as a JSON of its own."""
    library = recipe_file(options).library
    if library == Library():
        raise InputProblem("The library", "It is empty.", "Name a piece or a recipe that has materials.")
    _written(options.out, library.portable())
    print(f"{options.out}: {len(library.materials)} materials, channels {', '.join(library.channels)}")
    return 0


def _written(path: pathlib.Path, text: str) -> None:
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise _unwritten(path, error) from error


def _unwritten(path: pathlib.Path, error: OSError) -> InputProblem:
    return InputProblem(str(path), f"It cannot be written ({error.strerror}).", "Choose another folder.")
