"""The command line."""

import argparse
import pathlib
import sys
from collections.abc import Sequence
from typing import Any, get_args

from pydantic import ValidationError

from .. import __version__
from ..core.base.errors import InputProblem, RayLibraryMissing
from ..core.handoff.mix import MIXES
from ..core.settings.basis import Basis
from ..core.settings.handoff import Handoff
from ..core.settings.low_normals import NormalMode, Normals
from ..core.settings.map_names import MAPS
from ..core.settings.output import DEPTHS, Output
from ..core.settings.receivers import Receiver
from ..core.settings.recipe import refusals
from ..core.settings.sheet import Sheet
from .cage import run_cage, run_coverage, run_measure
from .commands import (
    convert_basis,
    run_bake,
    run_check,
    run_compile,
    run_convert,
    run_demo,
    run_mix,
    run_pair,
    run_serve,
    run_settings,
    run_shortcut,
)
from .input import add_cage, add_meshes, add_settings, reason
from .judge import run_judge
from .leaving import (
    export_library,
    list_receivers,
    make_receiver,
    run_handoff,
    save_piece,
    show_piece,
    show_receiver,
    show_schema,
)
from .run import run_batch

BAD_INPUT, FAULT = 2, 1
LIMIT = "how it may be seen at worst, such as “mean 5, over30 1 %%, missed 0”"
Commands = Any  # what argparse gives for adding commands has no public name


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit code: 0 done, 2 for input that cannot be used, 1 for anything else."""
    options = _parser().parse_args(arguments)
    try:
        return int(options.run(options))
    except (InputProblem, ValidationError) as problem:
        print(f"inkwell-cast: {words_of(problem)}", file=sys.stderr)
        return BAD_INPUT
    except (RayLibraryMissing, RuntimeError) as problem:
        print(f"inkwell-cast: {problem}", file=sys.stderr)
        return FAULT
    except MemoryError:
        print("inkwell-cast: The machine ran out of memory. Choose a smaller --size.", file=sys.stderr)
        return FAULT
    except KeyboardInterrupt:
        print("inkwell-cast: stopped.", file=sys.stderr)
        return 130


def words_of(problem: Exception) -> str:
    """One line for a user, naming the setting and its value where one was refused."""
    if not isinstance(problem, ValidationError):
        return str(problem)
    return "; ".join(f"{name or 'recipe'}: {words}" for name, words in refusals(problem).items())


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser("inkwell-cast", description="Bake a sculpt onto a UV-unwrapped mesh.")
    parser.add_argument("--version", action="version", version=f"inkwell-cast {__version__}")
    parser.set_defaults(limit=None)  # which some commands take
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    path = pathlib.Path
    command = commands.add_parser("bake", help="bake maps into a folder")
    command.set_defaults(run=run_bake)
    _add_bake(command)
    command.add_argument(
        "--out", required=True, type=path, metavar="DIR", help="folder for the pictures and manifest.json"
    )
    command.add_argument(
        "--mesh", type=path, metavar="FILE", help="write the low that the maps were baked on too, .obj, .ply or .glb"
    )
    command.add_argument("--limit", metavar="WORDS", help=f"{LIMIT}; exit code 3 beyond it")
    command = commands.add_parser("handoff", help="bake, and write what leaves: maps, meshes, manifest and report")
    command.set_defaults(run=run_handoff)
    _add_bake(command)
    command.add_argument("--out", required=True, type=path, metavar="DIR|ZIP", help="folder, or archive, that is made")
    command.add_argument("--existing", choices=("ask", "replace", "number"), help=reason(Handoff, "existing"))
    command.add_argument("--name", default="", metavar="NAME", help="what {piece} stands for")
    _add_batch(commands)
    _add_receivers(commands)
    _add_pieces(commands)
    _add_cages(commands)
    _add_looking(commands)
    _add_pictures(commands)
    _add_program(commands)
    return parser


def _add_batch(commands: Commands) -> None:
    command = commands.add_parser(
        "run", help="bake and hand off every piece of some folders; exit code 3 when some failed"
    )
    command.set_defaults(run=run_batch)
    add, path = command.add_argument, pathlib.Path
    add(
        "paths", nargs="+", type=path, metavar="FOLDER|PIECE",
        help="folders whose meshes make pieces by name, each folder in them being one piece; and .icast files",
    )  # fmt: skip
    add("--receiver", metavar="R", help="a ready receiver by name, or a JSON file; see `inkwell-cast receivers`")
    add("--out", required=True, type=path, metavar="DIR", help="gets a folder a piece, and summary.json and .txt")
    add("--jobs", type=int, default=1, metavar="N", help="pieces baked at once (default 1; each uses every core)")
    add("--watch", action="store_true", help="stay, and bake again what changes")
    add("--again", action="store_true", help="bake also what is done and did not change")
    add("--mend", action="store_true", help="try the best mend of every flaw, and keep what does good")
    add("--limit", metavar="WORDS", help=f"{LIMIT}; exit code 3 where a piece is beyond it")
    add("--recipe", type=path, metavar="FILE", help="JSON with settings for pieces that have none of their own")
    command.set_defaults(files=[], low=[], high=[], together=False)


def _add_receivers(commands: Commands) -> None:
    command = commands.add_parser("receivers", help="what maps can be made for: list, show, make, schema")
    command.set_defaults(run=list_receivers)
    kinds = command.add_subparsers(metavar="DO")
    command = kinds.add_parser("list", help="the ready ones")
    command.set_defaults(run=list_receivers)
    command = kinds.add_parser("show", help="print one as JSON")
    command.set_defaults(run=show_receiver)
    command.add_argument("receiver", metavar="NAME|FILE")
    command = kinds.add_parser("make", help="a JSON file from the settings of a piece or a recipe")
    command.set_defaults(run=make_receiver)
    add_settings(command)
    command.add_argument("--name", required=True, metavar="NAME", help=reason(Receiver, "name", bare=True))
    command.add_argument("--does", default="", metavar="WORDS", help="what it is for, in a sentence")
    command.add_argument("--out", required=True, type=pathlib.Path, metavar="FILE")
    command = kinds.add_parser("schema", help="print the JSON schema of a receiver file")
    command.set_defaults(run=show_schema)


def _add_pieces(commands: Commands) -> None:
    kinds = commands.add_parser("piece", help="portable piece files").add_subparsers(required=True, metavar="DO")
    command = kinds.add_parser("save", help="meshes and settings into one .icast")
    command.set_defaults(run=save_piece)
    add_meshes(command)
    add_cage(command)
    command.add_argument("--library", type=pathlib.Path, metavar="FILE", help="a material library, as JSON")
    command.add_argument("--receiver", metavar="R", help="settings of a receiver, laid over")
    command.add_argument("--name", default="", metavar="NAME", help="the piece's name; by default that of its low")
    command.add_argument("--out", required=True, type=pathlib.Path, metavar="FILE.icast")
    command = kinds.add_parser("show", help="what a piece file holds")
    command.set_defaults(run=show_piece)
    command.add_argument("piece", type=pathlib.Path, metavar="FILE.icast")
    command.add_argument("--json", action="store_true", help="print all of its JSON")
    command = commands.add_parser("library", help="write the material library of a piece or a recipe as JSON")
    command.set_defaults(run=export_library)
    add_settings(command)
    command.add_argument("--out", required=True, type=pathlib.Path, metavar="FILE")


def _add_bake(command: argparse.ArgumentParser) -> None:
    """Meshes, and every setting that has an option of its own."""
    add = command.add_argument
    add_meshes(command)
    add("--receiver", metavar="R", help="a ready receiver by name, or a JSON file; see `inkwell-cast receivers`")
    add("--library", type=pathlib.Path, metavar="FILE", help="a material library, as JSON")
    add("--maps", help=f"{reason(Output, 'maps')} Any of {', '.join(MAPS)}, with commas between.")
    add("--sheets", choices=("one", "material", "tile"), help=reason(Sheet, "split"))
    add("--channel", type=int, metavar="N", help=reason(Sheet, "channel"))
    add("--normals", choices=get_args(NormalMode), help=reason(Normals, "mode"))
    add("--size", metavar="WxH", help="Width and height of the sheet in texels, 16 to 16384 each.")
    add("--samples", type=int, choices=(1, 4, 16, 64), help=reason(Sheet, "samples"))
    add_cage(command)
    add("--measure", action="store_true", help="first find the reach that looks best, and take that")
    add(
        "--mend", action="store_true",
        help="first try the best mend of every flaw and keep those that do good; the manifest's recipe holds them",
    )  # fmt: skip
    add("--depth", type=int, choices=(8, 16, 32), help=reason(Output, "depth"))
    add("--format", choices=tuple(DEPTHS), help=reason(Output, "format"))
    add("--green", choices=("up", "down"), help=reason(Basis, "green"))
    add("--padding", metavar="N|auto|fill", help=reason(Sheet, "padding"))


def _add_cages(commands: Commands) -> None:
    """Commands about the cage of a piece."""
    path = pathlib.Path
    command = commands.add_parser("cage", help="write the cage that a bake would use, in the low's own topology")
    command.set_defaults(run=run_cage)
    add_meshes(command)
    add_cage(command)
    command.add_argument("--out", required=True, type=path, metavar="FILE", help="mesh file, .obj, .ply or .glb")
    command = commands.add_parser(
        "coverage", help="say how much of the sculpt the cage holds; exit code 3 if not all, or rays strike nothing"
    )
    command.set_defaults(run=run_coverage)
    add_meshes(command)
    add_cage(command)
    command.add_argument("--json", action="store_true", help="print JSON instead of lines")
    command = commands.add_parser("measure", help="find the reach that looks best, by trial on small bakes")
    command.set_defaults(run=run_measure)
    add_meshes(command)
    add_cage(command)
    command.add_argument("--scope", default="piece", metavar="SCOPE", help="piece, pair:NAME or object:FILE/OBJECT")
    command.add_argument("--json", action="store_true", help="print JSON instead of lines")


def _add_looking(commands: Commands) -> None:
    """Commands that look at a piece."""
    path = pathlib.Path
    for name, does, run in (
        (
            "check",
            "find what is wrong with meshes; exit code 0 for notes, 3 for warnings, 4 if it blocks a bake",
            run_check,
        ),
        ("pair", "print which highs each low would receive from, and what stays alone", run_pair),
    ):
        command = commands.add_parser(name, help=does, description=does)
        command.set_defaults(run=run)
        add_meshes(command)
        command.add_argument("--json", action="store_true", help="print JSON instead of lines")
        command.add_argument("--recipe", type=path, metavar="FILE", help="JSON with settings, such as suffixes")
    command = commands.add_parser(
        "judge",
        help="say how a normal map made elsewhere is seen; exit code 3 beyond a limit",
        description="Say how a normal map made elsewhere is seen. Of two files whose names say no role the first is "
        "the low, the second the sculpt. Exit code 3 beyond a limit.",
    )
    command.set_defaults(run=run_judge)
    add_meshes(command)
    add = command.add_argument
    add("--map", required=True, nargs="+", type=path, metavar="FILE", help="the normal map; one a sheet, in order")
    add(
        "--basis", metavar="BASIS",
        help="what it is in: object, or tangent with settings after commas, such as tangent,green=down; by default "
        "either green and object space are tried, and what is seen best counts",
    )  # fmt: skip
    add("--limit", metavar="WORDS", help=LIMIT)
    add("--out", type=path, metavar="DIR", help="write manifest, heat and lit pictures from four sides there")
    add("--json", action="store_true", help="print JSON instead of lines")
    add("--recipe", type=path, metavar="FILE", help="JSON with settings, such as suffixes and how sheets are split")


def _add_pictures(commands: Commands) -> None:
    """Commands that make one picture of others."""
    path = pathlib.Path
    mixes = commands.add_parser("mix", help="pictures that were baked apart into one")
    mixes = mixes.add_subparsers(required=True, metavar="KIND")
    for kind, (_, takes, _counts) in MIXES.items():
        command = mixes.add_parser(kind, help=takes)
        command.set_defaults(run=run_mix, kind=kind)
        command.add_argument("given", nargs="+", type=path, metavar="FILE", help=takes)
        command.add_argument("--out", required=True, type=path, metavar="FILE", help="picture to write")
    bases = commands.add_parser("basis", help="normal maps and their bases").add_subparsers(required=True, metavar="DO")
    command = bases.add_parser("convert", help="a normal map of a low from one basis to another, or to object space")
    command.set_defaults(run=convert_basis)
    command.add_argument("--low", required=True, type=path, metavar="FILE", help="the mesh that the map belongs to")
    command.add_argument("--map", required=True, type=path, metavar="FILE", help="the map as it is")
    kinds = "object, or tangent with settings of the basis after commas, such as tangent,green=down"
    command.add_argument("--from", required=True, dest="source", metavar="BASIS", help=f"what it is in: {kinds}")
    command.add_argument("--to", required=True, dest="target", metavar="BASIS", help="what it shall be in; likewise")
    command.add_argument("--out", required=True, type=path, metavar="FILE", help="picture to write; suffix says format")
    command.add_argument("--channel", type=int, default=0, metavar="N", help=reason(Sheet, "channel"))


def _add_program(commands: Commands) -> None:
    """Commands for the program itself, and the one that converts meshes."""
    path = pathlib.Path
    command = commands.add_parser("compile", help="make the baking kernels ready, as the first start would")
    command.set_defaults(run=run_compile)
    command = commands.add_parser("shortcut", help="write what a double click starts")
    command.set_defaults(run=run_shortcut)
    command.add_argument("--into", type=path, metavar="DIR", help="folder for it (default the desktop)")
    command = commands.add_parser("settings", help="list every setting with its default and reason")
    command.set_defaults(run=run_settings)
    command = commands.add_parser("convert", help="read a mesh of any format and write it as OBJ, PLY or GLB")
    command.set_defaults(run=run_convert)
    command.add_argument("source", type=path, metavar="IN")
    command.add_argument("target", type=path, metavar="OUT")
    for name, does, run in (
        ("serve", "open the interface for a browser on this machine", run_serve),
        ("demo", "the same, with the demo pieces on the shelf", run_demo),
    ):
        command = commands.add_parser(name, help=does)
        command.set_defaults(run=run)
        command.add_argument(
            "--port", type=int, default=8734, help="port on 127.0.0.1 (default 8734; 0 takes a free one)"
        )
        command.add_argument("--data", type=path, metavar="DIR", help="folder for pieces and bakes")
        command.add_argument("--open", action="store_true", help="open the browser too")
