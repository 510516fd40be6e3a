"""The command line. What a command needs is imported when it is called, so that asking for help is no wait."""

import argparse
import importlib
import os
import subprocess
import sys
from collections.abc import Sequence
from typing import Any

from .. import __version__
from ..core.base.on_demand import importing

BAD_INPUT, FAULT = 2, 1
NO_MEMORY = ("failed to map segment", "Cannot allocate memory", "can't start new thread")  # as the system says it
COMMANDS = {
    "bake": "bake maps into a folder",
    "lods": "bake one sculpt to several layers of detail, and say how each is seen from afar",
    "handoff": "bake, and write what leaves: maps, meshes, manifest and report",
    "run": "bake and hand off every piece of some folders; exit code 3 when some failed",
    "project": "what the pieces of a folder share: init, check, bake, schema",
    "receivers": "what maps can be made for: list, show, make, schema",
    "piece": "portable piece files",
    "library": "write the material library of a piece or a recipe as JSON",
    "cage": "write the cage that a bake would use, in the low's own topology",
    "coverage": "say how much of the sculpt the cage holds; exit code 3 if not all, or rays strike nothing",
    "measure": "find the reach that looks best, by trial on small bakes",
    "check": "find what is wrong with meshes; exit code 0 for notes, 3 for warnings, 4 if it blocks a bake",
    "pair": "print which highs each low would receive from, and what stays alone",
    "judge": "say how a normal map made elsewhere is seen; exit code 3 beyond a limit",
    "mix": "pictures that were baked apart into one",
    "basis": "normal maps and their bases",
    "compile": "make the baking kernels ready, as the first start would",
    "shortcut": "write what a double click starts",
    "recipe": "files of settings: show, validate, schema",
    "settings": "list every setting with its default and reason",
    "convert": "read a mesh of any format and write it as OBJ, PLY or GLB",
    "serve": "open the interface for a browser on this machine",
    "worker": "trace for a Dask cluster, until its scheduler goes or Ctrl-C",
    "demo": "the same, with the demo pieces on the shelf",
}


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns the exit code: 0 done, 2 for input that cannot be used, 1 for anything else."""
    options = _parser().parse_args(arguments)
    code = FAULT
    try:
        code = _done(options)
    finally:
        if getattr(options, "on_done", None):
            _run_after(options, code)
    return code


def _done(options: argparse.Namespace) -> int:
    """Do what a command does; the exit code, after saying what went wrong."""
    try:
        return int(options.run(options))
    except MemoryError:
        print("inkwell-cast: The machine ran out of memory. Choose a smaller --size.", file=sys.stderr)
        return FAULT
    except BrokenPipeError:  # whoever read stopped doing so, as `| head` does
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except KeyboardInterrupt:
        print("inkwell-cast: stopped.", file=sys.stderr)
        return 130
    except Exception as problem:
        if any(words in str(problem) for words in NO_MEMORY):
            print("inkwell-cast: There is too little memory for the program itself.", file=sys.stderr)
            return FAULT
        told = _told(problem)
        if told is None:
            raise
        print(f"inkwell-cast: {told[1]}", file=sys.stderr)
        return told[0]


def _run_after(options: argparse.Namespace, code: int) -> None:
    """Have the shell run what is to be done at the end; its own failure is said and changes nothing."""
    sys.stdout.flush()
    told = {"INKWELL_CAST_EXIT_CODE": str(code), "INKWELL_CAST_OUT": str(options.out.absolute())}
    ended = subprocess.run(options.on_done, shell=True, env=os.environ | told).returncode
    if ended:
        print(f"inkwell-cast: --on-done ended with exit code {ended}.", file=sys.stderr)


def _told(problem: Exception) -> tuple[int, str] | None:
    """The exit code for a problem and a line for a user, which names what was refused; None for a fault of our own."""
    from pydantic import ValidationError

    from ..core.base.errors import InputProblem, RayLibraryMissing
    from ..core.settings.recipe import refused_words

    if isinstance(problem, ValidationError):
        return BAD_INPUT, refused_words(problem)
    if isinstance(problem, InputProblem):
        return BAD_INPUT, str(problem)
    return (FAULT, str(problem)) if isinstance(problem, RayLibraryMissing | RuntimeError) else None


class _Command(argparse.ArgumentParser):
    """A command that learns what it takes when it is called."""

    def parse_known_args(self, *given: Any, **named: Any) -> Any:
        name = self.prog.rpartition(" ")[2]
        if name in COMMANDS and not self.get_default("run"):
            with importing():
                arguments = importlib.import_module(f"{__name__}.arguments")
            getattr(arguments, name)(self)
        return super().parse_known_args(*given, **named)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser("inkwell-cast", description="Bake a sculpt onto a UV-unwrapped mesh.")
    parser.add_argument("--version", action="version", version=f"inkwell-cast {__version__}")
    parser.set_defaults(limit=None)  # which some commands take
    commands = parser.add_subparsers(required=True, metavar="COMMAND", parser_class=_Command)
    for name, does in COMMANDS.items():
        commands.add_parser(name, help=does, description=does)
    return parser
