"""The command line."""

import argparse
import pathlib
import sys
import time
from collections.abc import Sequence
from typing import Any, get_args

from pydantic import ValidationError

from .core.bake import Bake, BakeMeshes, bake
from .core.errors import InputProblem, RayLibraryMissing
from .core.formats import read_mesh
from .core.manifest import MeshFile, sha256_of
from .core.recipe import Basis, MapKey, Output, Reach, Recipe, Sheet, refusals

BAD_INPUT, FAULT = 2, 1


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
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    command = commands.add_parser("bake", help="bake maps into a folder")
    command.set_defaults(run=_bake)
    add, path = command.add_argument, pathlib.Path
    add("--low", nargs="+", required=True, type=path, metavar="FILE", help="the meshes to bake onto")
    add("--high", nargs="+", required=True, type=path, metavar="FILE", help="the sculpts they receive from")
    add("--out", required=True, type=path, metavar="DIR", help="folder for the pictures and manifest.json")
    add("--maps", help=f"{_reason(Output, 'maps')} Any of {', '.join(get_args(MapKey))}, with commas between.")
    add("--size", metavar="WxH", help="Width and height of the sheet in texels, 16 to 8192 each.")
    add("--samples", type=int, choices=(1, 4, 16), help=_reason(Sheet, "samples"))
    add("--reach", nargs=2, type=float, metavar=("OUT", "IN"), help="Outward and inward reach in scene units.")
    add("--depth", type=int, choices=(8, 16), help=_reason(Output, "depth"))
    add("--green", choices=("up", "down"), help=_reason(Basis, "green"))
    add("--padding", metavar="N|auto|fill", help=_reason(Sheet, "padding"))
    add("--recipe", type=path, metavar="FILE", help="JSON with settings; options given here win over it")
    for name, does, run in (
        ("serve", "open the interface for a browser on this machine", _serve),
        ("demo", "the same, with the demo pieces on the shelf", _demo),
    ):
        command = commands.add_parser(name, help=does)
        command.set_defaults(run=run)
        command.add_argument(
            "--port", type=int, default=8734, help="port on 127.0.0.1 (default 8734; 0 takes a free one)"
        )
        command.add_argument("--data", type=path, metavar="DIR", help="folder for pieces and bakes")
    return parser


def _reason(model: Any, field: str) -> str:
    found = model.model_fields[field]
    shown = ",".join(found.default) if isinstance(found.default, list) else found.default
    return f"{found.description} Default {shown}.".replace("%", "%%")


def recipe_of(options: argparse.Namespace) -> Recipe:
    """The recipe file's settings, or the defaults, changed by what was given on the command line."""
    settings: dict[str, Any] = {}
    if options.recipe:
        try:
            text = options.recipe.read_text()
        except (OSError, UnicodeDecodeError) as error:
            raise InputProblem(
                str(options.recipe), f"The recipe cannot be read ({error}).", "Check its path."
            ) from error
        settings = Recipe.model_validate_json(text).model_dump()
    else:
        settings = Recipe().model_dump()
    if options.reach:
        settings["reach"] = Reach(unit="scene", outward=options.reach[0], inward=options.reach[1]).model_dump()
    if options.size:
        width, times, height = options.size.lower().partition("x")
        if not (width.isdigit() and (height if times else width).isdigit()):
            raise InputProblem("--size", f"“{options.size}” is not a size.", "Give width x height, such as 2048x1024.")
        settings["sheet"] |= {"width": int(width), "height": int(height or width)}
    if options.padding:
        settings["sheet"]["padding"] = int(options.padding) if options.padding.isdigit() else options.padding
    if options.maps:
        settings["output"]["maps"] = [key.strip() for key in options.maps.split(",") if key.strip()]
    for group, name in (("sheet", "samples"), ("output", "depth"), ("basis", "green")):
        value = getattr(options, name)
        if value is not None:
            settings[group][name] = value
    return Recipe.model_validate(settings)


def _bake(options: argparse.Namespace) -> int:
    recipe = recipe_of(options)
    bar = _Bar()
    meshes, sources = BakeMeshes([], []), []
    for role, paths, into in (("low", options.low, meshes.lows), ("high", options.high, meshes.highs)):
        for path in paths:
            bar.show(f"reading {path.name}", 0.0)
            mesh = read_mesh(path)
            into.append(mesh)
            sources.append(MeshFile(role=role, file=path.name, sha256=sha256_of(path), triangles=len(mesh.triangles)))
    try:
        result: Bake = bake(recipe, meshes, bar.show)
        try:
            manifest = result.save(options.out, sources)
        except OSError as error:
            raise InputProblem(
                str(options.out),
                f"The maps cannot be written ({error.strerror}).",
                "Choose another folder or free some space.",
            ) from error
    finally:
        bar.end()
    for warning in manifest.warnings:
        print(f"note: {warning}")
    if manifest.likeness:
        print(f"likeness: mean {manifest.likeness.mean:.2f}°, 95 % of texels within {manifest.likeness.p95:.2f}°")
    print(f"{manifest.texels:,} texels, {manifest.missed_texels:,} missed; {len(manifest.maps)} maps in {options.out}")
    return 0


class _Bar:
    """A progress bar on standard error, where that is a terminal."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._started = time.monotonic()

    def show(self, stage: str, share: float) -> None:
        if not self._live:
            return
        spent = time.monotonic() - self._started
        left = f"{spent * (1 - share) / share:4.0f} s left" if share > 0.1 else ""
        filled = int(share * 30)
        sys.stderr.write(f"\r{'█' * filled}{'·' * (30 - filled)} {share:4.0%} {stage:<24.24} {left:<12}")
        sys.stderr.flush()

    def end(self) -> None:
        if self._live:
            sys.stderr.write("\r" + " " * 78 + "\r")


def _serve(options: argparse.Namespace) -> int:
    from .web.serve import serve

    return serve(options.data, options.port, demo=False)


def _demo(options: argparse.Namespace) -> int:
    from .web.serve import serve

    return serve(options.data, options.port, demo=True)


if __name__ == "__main__":
    sys.exit(main())
