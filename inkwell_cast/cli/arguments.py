"""What each command takes: a function a command, which adds its options to its parser.

The names of commands and what they do in a few words are in the package, so that listing them imports none of this.
"""

import argparse
import importlib
import pathlib
from collections.abc import Callable
from typing import get_args

from ..core.base.on_demand import importing
from ..core.settings.basis import Basis
from ..core.settings.handoff import Handoff
from ..core.settings.limits import Judging, Limits
from ..core.settings.low_normals import NormalMode, Normals
from ..core.settings.map_names import MAPS
from ..core.settings.map_sets import READY as MAP_SETS
from ..core.settings.output import DEPTHS, Output
from ..core.settings.receivers import Receiver
from ..core.settings.sheet import Sheet
from .bar import add_progress
from .meshes_and_settings import add_cage, add_meshes, add_settings, reason

Parser = argparse.ArgumentParser
Path = pathlib.Path
LIMIT = "how it may be seen at worst, such as “mean 5, over30 1 %%, missed 0”"


def does(module: str, function: str) -> Callable[[argparse.Namespace], int]:
    """What a command does, imported when it is done."""

    def run(options: argparse.Namespace) -> int:
        with importing():
            command = getattr(importlib.import_module(f".{module}", __package__), function)
        return int(command(options))

    return run


def bake(command: Parser) -> None:
    command.set_defaults(run=does("commands", "run_bake"))
    _add_bake(command)
    add = command.add_argument
    add("--out", required=True, type=Path, metavar="DIR", help="folder for the pictures and manifest.json")
    add("--mesh", type=Path, metavar="FILE", help="write the low that the maps were baked on too, .obj, .ply or .glb")
    add("--limit", metavar="WORDS", help=f"{LIMIT}; exit code 3 beyond it")
    _add_cluster(command)
    _add_after(command)


def lods(command: Parser) -> None:
    command.set_defaults(run=does("lods", "run_lods"))
    _add_bake(command)
    add = command.add_argument
    add("--out", required=True, type=Path, metavar="DIR", help="folder for a folder a level, and levels.json")
    add("--share", action="store_true", help="the levels share their UVs: all wear the maps of the first")


def handoff(command: Parser) -> None:
    command.set_defaults(run=does("leaving", "run_handoff"))
    _add_bake(command)
    add = command.add_argument
    add("--out", required=True, type=Path, metavar="DIR|ZIP", help="folder, or archive, that is made")
    add("--existing", choices=("ask", "replace", "number"), help=reason(Handoff, "existing"))
    add("--shared", action="store_true", help=reason(Handoff, "shared"))
    add(
        "--baked",
        nargs="?",
        const="",
        metavar="DIR|NAME",
        help="bake nothing: hand off what `bake` wrote into a folder of these meshes, or a bake in the .icast by its "
        "name, by default the newest",
    )
    _add_plan(command)
    add("--name", default="", metavar="NAME", help="what {piece} stands for")
    _add_after(command)


def run(command: Parser) -> None:
    command.set_defaults(run=does("run", "run_batch"), files=[], low=[], high=[], together=False, alone=False)
    add = command.add_argument
    add(
        "paths",
        nargs="+",
        type=Path,
        metavar="FOLDER|PIECE",
        help="folders whose meshes make pieces by name, each folder in them being one piece; and .icast files",
    )
    add("--receiver", metavar="R", help="a ready receiver by name, or a JSON file; see `inkwell-cast receivers`")
    add("--out", required=True, type=Path, metavar="DIR", help="gets a folder a piece, and summary.json and .txt")
    _add_batch(command)
    add("--watch", action="store_true", help="stay, and bake again what changes")
    add("--recipe", type=Path, metavar="FILE", help="JSON with settings for pieces that have none of their own")
    _add_plan(command)
    _add_after(command)
    add_progress(command)


def _add_batch(command: Parser) -> None:
    """How many pieces are baked."""
    add = command.add_argument
    add(
        "--jobs",
        type=_count,
        metavar="N",
        help="pieces baked at once (default 1, each with every core; on a cluster as many as it has workers)",
    )
    _add_cluster(command)
    add("--again", action="store_true", help="bake also what is done and did not change")
    add("--mend", action="store_true", help="try the best mend of every flaw, and keep what does good")
    add("--limit", metavar="WORDS", help=f"{LIMIT}; exit code 3 where a piece is beyond it")
    add_judge(command)


def add_judge(command: Parser) -> None:
    """How bakes are judged."""
    command.add_argument("--judge", choices=get_args(Judging), help=reason(Limits, "judge"))


def _count(text: str) -> int:
    if not text.isdecimal() or not int(text):
        raise argparse.ArgumentTypeError(f"“{text}” is no number from 1 up")
    return int(text)


def _add_cluster(command: Parser) -> None:
    command.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help="let the workers of a Dask cluster trace: tcp://HOST:PORT, tls://HOST:PORT, or local:N on this machine",
    )


def _add_after(command: Parser) -> None:
    command.add_argument(
        "--on-done",
        metavar="COMMAND",
        help="what the shell runs at the end, however that is: INKWELL_CAST_EXIT_CODE and INKWELL_CAST_OUT tell it",
    )


def worker(command: Parser) -> None:
    command.set_defaults(run=does("program", "run_worker"))
    add = command.add_argument
    add("address", metavar="tcp://HOST:PORT", help="of the scheduler, which `dask scheduler` starts")
    add("--threads", type=_count, default=0, metavar="N", help="that it traces with (default: every processor)")
    add("--memory", type=float, default=0, metavar="GB", help="that it may take (default: what is free now)")
    add("--name", metavar="NAME", help="what it is called in the scheduler's log")


def _add_plan(command: Parser) -> None:
    command.add_argument(
        "--plan",
        action="store_true",
        help="bake nothing; say what would be written, what becomes of the folder, and what stands in the way",
    )
    command.add_argument("--json", action="store_true", help="a plan as JSON")


def project(command: Parser) -> None:
    kinds = command.add_subparsers(required=True, metavar="DO")
    for name, function, does_what in (
        ("init", "init", "start one in a folder"),
        ("check", "check", "say which pieces break what it asks; exit code 3 where one does, for version control"),
        ("bake", "bake", "bake and hand off every piece that is not done, to where it says"),
        ("schema", "show_schema", "print the JSON schema of its file"),
    ):
        each = kinds.add_parser(name, help=does_what, description=does_what)
        each.set_defaults(run=does("project", function))
        if name == "schema":
            continue
        each.add_argument("folder", nargs="?", default=Path(), type=Path, metavar="DIR", help="in it; by default here")
        if name in ("check", "bake"):
            add_progress(each)
        if name == "check":
            each.add_argument("--json", action="store_true", help="print JSON instead of lines")
        if name == "bake":
            _add_batch(each)


def receivers(command: Parser) -> None:
    command.set_defaults(run=does("leaving", "list_receivers"))
    kinds = command.add_subparsers(metavar="DO")
    command = kinds.add_parser("list", help="the ready ones")
    command.set_defaults(run=does("leaving", "list_receivers"))
    command = kinds.add_parser("show", help="print one as JSON")
    command.set_defaults(run=does("leaving", "show_receiver"))
    command.add_argument("receiver", metavar="NAME|FILE")
    command = kinds.add_parser("make", help="a JSON file from the settings of a piece or a recipe")
    command.set_defaults(run=does("leaving", "make_receiver"))
    add_settings(command)
    command.add_argument("--name", required=True, metavar="NAME", help=reason(Receiver, "name", bare=True))
    command.add_argument("--does", default="", metavar="WORDS", help="what it is for, in a sentence")
    command.add_argument("--out", required=True, type=Path, metavar="FILE")
    command = kinds.add_parser("schema", help="print the JSON schema of a receiver file")
    command.set_defaults(run=does("leaving", "show_schema"))


def piece(command: Parser) -> None:
    kinds = command.add_subparsers(required=True, metavar="DO")
    command = kinds.add_parser("save", help="meshes and settings into one .icast")
    command.set_defaults(run=does("leaving", "save_piece"))
    add_meshes(command)
    add_cage(command)
    command.add_argument("--library", type=Path, metavar="FILE", help="a material library, as JSON")
    command.add_argument("--receiver", metavar="R", help="settings of a receiver, laid over")
    command.add_argument("--name", default="", metavar="NAME", help="the piece's name; by default that of its low")
    command.add_argument("--out", required=True, type=Path, metavar="FILE.icast")
    command = kinds.add_parser("show", help="what a piece file holds")
    command.set_defaults(run=does("leaving", "show_piece"))
    command.add_argument("piece", type=Path, metavar="FILE.icast")
    command.add_argument("--json", action="store_true", help="print all of its JSON")


def library(command: Parser) -> None:
    command.set_defaults(run=does("leaving", "export_library"))
    add_settings(command)
    command.add_argument("--out", required=True, type=Path, metavar="FILE")


def _add_bake(command: Parser) -> None:
    """Meshes, and every setting that has an option of its own."""
    add = command.add_argument
    add_meshes(command)
    add("--receiver", metavar="R", help="a ready receiver by name, or a JSON file; see `inkwell-cast receivers`")
    add("--library", type=Path, metavar="FILE", help="a material library, as JSON")
    add(
        "--maps",
        help=f"{reason(Output, 'maps')} Any of {', '.join(MAPS)}, or sets: {', '.join(MAP_SETS)}.",
    )
    add("--sheets", choices=("one", "material", "tile"), help=reason(Sheet, "split"))
    add("--channel", type=int, metavar="N", help=reason(Sheet, "channel"))
    add("--normals", choices=get_args(NormalMode), help=reason(Normals, "mode"))
    add("--size", metavar="WxH", help="Width and height of the sheet in texels, 16 to 16384 each.")
    add("--samples", type=int, choices=(1, 4, 16, 64), help=reason(Sheet, "samples"))
    add_cage(command)
    add("--measure", action="store_true", help="first find the reach that looks best, and take that")
    add(
        "--mend",
        action="store_true",
        help="first try the best mend of every flaw and keep those that do good; the manifest's recipe holds them",
    )
    add("--depth", type=int, choices=(8, 16, 32), help=reason(Output, "depth"))
    add("--format", choices=tuple(DEPTHS), help=reason(Output, "format"))
    add("--green", choices=("up", "down"), help=reason(Basis, "green"))
    add("--padding", metavar="N|auto|fill", help=reason(Sheet, "padding"))
    add_judge(command)


def cage(command: Parser) -> None:
    command.set_defaults(run=does("cage", "run_cage"))
    add_meshes(command)
    add_cage(command)
    command.add_argument("--out", required=True, type=Path, metavar="FILE", help="mesh file, .obj, .ply or .glb")


def coverage(command: Parser) -> None:
    command.set_defaults(run=does("cage", "run_coverage"))
    add_meshes(command)
    add_cage(command)
    command.add_argument("--json", action="store_true", help="print JSON instead of lines")


def measure(command: Parser) -> None:
    command.set_defaults(run=does("cage", "run_measure"))
    add_meshes(command)
    add_cage(command)
    command.add_argument("--scope", action="append", help="piece, pair:NAME or object:FILE/OBJECT; more for several")
    command.add_argument("--json", action="store_true", help="print JSON instead of lines")


def check(command: Parser) -> None:
    command.set_defaults(run=does("commands", "run_check"))
    _add_looking(command)


def pair(command: Parser) -> None:
    command.set_defaults(run=does("commands", "run_pair"))
    _add_looking(command)


def _add_looking(command: Parser) -> None:
    add_meshes(command)
    command.add_argument("--json", action="store_true", help="print JSON instead of lines")
    command.add_argument("--recipe", type=Path, metavar="FILE", help="JSON with settings, such as suffixes")


def judge(command: Parser) -> None:
    command.description = (
        "Say how a normal map made elsewhere is seen. Of two files whose names say no role the first is the low, the "
        "second the sculpt. Exit code 3 beyond a limit."
    )
    command.set_defaults(run=does("judge", "run_judge"))
    add_meshes(command)
    add = command.add_argument
    add("--map", required=True, nargs="+", type=Path, metavar="FILE", help="the normal map; one a sheet, in order")
    add(
        "--basis",
        metavar="BASIS",
        help="what it is in: object, or tangent with settings after commas, such as tangent,green=down; by default "
        "either green and object space are tried, and what is seen best counts",
    )
    add("--limit", metavar="WORDS", help=LIMIT)
    add("--out", type=Path, metavar="DIR", help="write manifest, heat and lit pictures from four sides there")
    _add_cluster(command)
    add("--json", action="store_true", help="print JSON instead of lines")
    add("--recipe", type=Path, metavar="FILE", help="JSON with settings, such as suffixes and how sheets are split")


def mix(command: Parser) -> None:
    from ..core.handoff.mix import MIXES

    mixes = command.add_subparsers(required=True, metavar="KIND")
    for kind, (_, takes, _counts) in MIXES.items():
        command = mixes.add_parser(kind, help=takes)
        command.set_defaults(run=does("commands", "run_mix"), kind=kind)
        command.add_argument("given", nargs="+", type=Path, metavar="FILE", help=takes)
        command.add_argument("--out", required=True, type=Path, metavar="FILE", help="picture to write")


def basis(command: Parser) -> None:
    bases = command.add_subparsers(required=True, metavar="DO")
    command = bases.add_parser("convert", help="a normal map of a low from one basis to another, or to object space")
    command.set_defaults(run=does("commands", "convert_basis"))
    add = command.add_argument
    add("--low", required=True, type=Path, metavar="FILE", help="the mesh that the map belongs to")
    add("--map", required=True, type=Path, metavar="FILE", help="the map as it is")
    kinds = "object, or tangent with settings of the basis after commas, such as tangent,green=down"
    add("--from", required=True, dest="source", metavar="BASIS", help=f"what it is in: {kinds}")
    add("--to", required=True, dest="target", metavar="BASIS", help="what it shall be in; likewise")
    add("--out", required=True, type=Path, metavar="FILE", help="picture to write; suffix says format")
    add("--channel", type=int, default=0, metavar="N", help=reason(Sheet, "channel"))


def compile(command: Parser) -> None:
    command.set_defaults(run=does("program", "run_compile"))


def shortcut(command: Parser) -> None:
    command.set_defaults(run=does("program", "run_shortcut"))
    command.add_argument("--into", type=Path, metavar="DIR", help="folder for it (default the desktop)")


def settings(command: Parser) -> None:
    command.set_defaults(run=does("program", "run_settings"))
    command.add_argument("words", nargs="*", metavar="WORD", help="only settings with these words, such as dilation")
    command.add_argument("--json", action="store_true", help="with titles, ranges and all that is set by name")


def recipe(command: Parser) -> None:
    kinds = command.add_subparsers(required=True, metavar="DO")
    command = kinds.add_parser("schema", help="print the JSON schema of a recipe file")
    command.set_defaults(run=does("program", "show_recipe_schema"))
    command = kinds.add_parser("show", help="print one with all that it leaves to the defaults")
    command.set_defaults(run=does("program", "show_recipe"))
    command.add_argument("recipe", type=Path, metavar="FILE|PIECE")
    command.add_argument("--changed", action="store_true", help="only what differs from the defaults")
    command = kinds.add_parser("take", help="print one with settings of some kinds as another has them")
    command.set_defaults(run=does("program", "take_settings"))
    command.add_argument("recipe", type=Path, metavar="FILE|PIECE")
    command.add_argument(
        "--of", type=Path, required=True, metavar="FILE|PIECE", help="where the settings are taken from"
    )
    command.add_argument("--kinds", nargs="+", metavar="KIND", help="cage, names, sheets, basis, maps, handoff, places")
    command = kinds.add_parser("validate", help="say whether files are recipes; exit code 2 where one is none")
    command.set_defaults(run=does("program", "validate_recipes"))
    command.add_argument("recipes", nargs="+", type=Path, metavar="FILE|PIECE")


def convert(command: Parser) -> None:
    command.set_defaults(run=does("commands", "run_convert"))
    command.add_argument("source", type=Path, metavar="IN")
    command.add_argument("target", type=Path, metavar="OUT")


def serve(command: Parser) -> None:
    command.set_defaults(run=does("program", "run_serve"))
    _add_serving(command)
    add = command.add_argument
    add("--host", metavar="ADDRESS", help="let other machines in at this address of yours, over TLS, each with a token")
    add("--tls-cert", type=Path, metavar="PEM", help="the certificate for that")
    add("--tls-key", type=Path, metavar="PEM", help="and its private key")


def demo(command: Parser) -> None:
    command.set_defaults(run=does("program", "run_demo"))
    _add_serving(command)
    command.add_argument(
        "--write", type=Path, metavar="DIR", help="write the demo meshes and their settings there, and serve nothing"
    )
    add_progress(command)


def _add_serving(command: Parser) -> None:
    add = command.add_argument
    add("--port", type=int, default=8734, help="port on 127.0.0.1 (default 8734; 0 takes a free one)")
    add("--data", type=Path, metavar="DIR", help="folder for pieces and bakes")
    add("--open", action="store_true", help="open the browser too")
    _add_cluster(command)
