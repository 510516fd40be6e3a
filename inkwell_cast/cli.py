"""The command line."""

import argparse
import dataclasses
import json
import pathlib
import sys
import time
from collections.abc import Sequence
from typing import Any, get_args

from pydantic import BaseModel, ValidationError

from .core.assembly import Assembly, Warm, assemble
from .core.bake import Bake, BakeMeshes, bake
from .core.checks import check
from .core.coverage import CoverageFacts, coverage
from .core.errors import InputProblem, RayLibraryMissing
from .core.export import cage_mesh
from .core.field import located_of
from .core.fit import cage_of
from .core.formats import read_mesh, write_mesh
from .core.manifest import MeshFile, sha256_of
from .core.recipe import Basis, MapKey, NormalMode, Normals, Output, Reach, Recipe, Sheet, refusals
from .core.refusals import refuse_unpaired

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
    _add_meshes(command)
    add("--out", required=True, type=path, metavar="DIR", help="folder for the pictures and manifest.json")
    add("--maps", help=f"{_reason(Output, 'maps')} Any of {', '.join(get_args(MapKey))}, with commas between.")
    add("--sheets", choices=("one", "material", "tile"), help=_reason(Sheet, "split"))
    add("--channel", type=int, metavar="N", help=_reason(Sheet, "channel"))
    add("--normals", choices=get_args(NormalMode), help=_reason(Normals, "mode"))
    add("--size", metavar="WxH", help="Width and height of the sheet in texels, 16 to 8192 each.")
    add("--samples", type=int, choices=(1, 4, 16), help=_reason(Sheet, "samples"))
    _add_cage(command)
    add("--depth", type=int, choices=(8, 16), help=_reason(Output, "depth"))
    add("--green", choices=("up", "down"), help=_reason(Basis, "green"))
    add("--padding", metavar="N|auto|fill", help=_reason(Sheet, "padding"))
    command = commands.add_parser("cage", help="write the cage that a bake would use, in the low's own topology")
    command.set_defaults(run=_cage)
    _add_meshes(command)
    _add_cage(command)
    command.add_argument("--out", required=True, type=path, metavar="FILE", help="mesh file, .obj, .ply or .glb")
    command = commands.add_parser("coverage", help="say how much of the sculpt the cage holds; exit code 3 if not all")
    command.set_defaults(run=_coverage)
    _add_meshes(command)
    _add_cage(command)
    command.add_argument("--json", action="store_true", help="print JSON instead of lines")
    for name, does, run in (
        (
            "check",
            "find what is wrong with meshes; exit code 0 for notes, 3 for warnings, 4 if it blocks a bake",
            _check,
        ),
        ("pair", "print which highs each low would receive from, and what stays alone", _pair),
    ):
        command = commands.add_parser(name, help=does, description=does)
        command.set_defaults(run=run)
        _add_meshes(command)
        command.add_argument("--json", action="store_true", help="print JSON instead of lines")
        command.add_argument("--recipe", type=path, metavar="FILE", help="JSON with settings, such as suffixes")
    commands.add_parser("settings", help="list every setting with its default and reason").set_defaults(run=_settings)
    command = commands.add_parser("convert", help="read a mesh of any format and write it as OBJ, PLY or GLB")
    command.set_defaults(run=_convert)
    command.add_argument("source", type=path, metavar="IN")
    command.add_argument("target", type=path, metavar="OUT")
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


def _add_meshes(command: argparse.ArgumentParser) -> None:
    path = pathlib.Path
    command.add_argument(
        "files", nargs="*", type=path, metavar="FILE", help="meshes whose parts say their role by name"
    )
    command.add_argument("--low", nargs="+", default=[], type=path, metavar="FILE", help="meshes to bake onto")
    command.add_argument("--high", nargs="+", default=[], type=path, metavar="FILE", help="sculpts they receive from")
    command.add_argument(
        "--together", action="store_true", help="every low receives from every high, whatever the names"
    )


def _add_cage(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    add("--reach", nargs=2, type=float, metavar=("OUT", "IN"), help="Outward and inward reach in scene units.")
    add("--cage", nargs="+", default=[], type=pathlib.Path, metavar="FILE", help="cage meshes; their names say of what")
    add("--fit", action="store_true", help="fit the cage to the sculpt: it starts rays just beyond it, smoothly")
    add("--clearance", type=float, metavar="D", help=f"{_reason(Reach, 'clearance')} In the unit of the reach.")
    add("--directions", choices=("averaged", "split"), help=_reason(Reach, "directions"))
    add("--set", nargs="+", default=[], metavar="NAME=VALUE", help="any setting by name; see `inkwell-cast settings`")
    add("--recipe", type=pathlib.Path, metavar="FILE", help="JSON with settings; options given here win over it")


def _reason(model: Any, field: str) -> str:
    found = model.model_fields[field]
    shown = ",".join(found.default) if isinstance(found.default, list) else found.default
    return f"{found.description} Default {shown}.".replace("%", "%%")


def recipe_of(options: argparse.Namespace) -> Recipe:
    """The recipe file's settings, or the defaults, changed by what was given on the command line."""
    settings = _recipe_file(options).model_dump()
    if options.reach:
        settings["reach"] |= {"unit": "scene", "outward": options.reach[0], "inward": options.reach[1]}
    if options.fit:
        settings["reach"]["shape"] = "fitted"
    for name in ("clearance", "directions"):
        if getattr(options, name) is not None:
            settings["reach"][name] = getattr(options, name)
    for given in options.set:
        _set(settings, given)
    if options.run is not _bake:
        return Recipe.model_validate(settings)
    if options.size:
        width, times, height = options.size.lower().partition("x")
        if not (width.isdigit() and (height if times else width).isdigit()):
            raise InputProblem("--size", f"“{options.size}” is not a size.", "Give width x height, such as 2048x1024.")
        settings["sheet"] |= {"width": int(width), "height": int(height or width)}
    if options.padding:
        settings["sheet"]["padding"] = int(options.padding) if options.padding.isdigit() else options.padding
    if options.maps:
        settings["output"]["maps"] = [key.strip() for key in options.maps.split(",") if key.strip()]
    for group, name, option in (
        ("sheet", "samples", "samples"), ("sheet", "split", "sheets"), ("sheet", "channel", "channel"),
        ("output", "depth", "depth"), ("basis", "green", "green"), ("normals", "mode", "normals"),
    ):  # fmt: skip
        value = getattr(options, option)
        if value is not None:
            settings[group][name] = value
    return Recipe.model_validate(settings)


def _set(settings: dict[str, Any], given: str) -> None:
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


def _settings(options: argparse.Namespace) -> int:
    """Every setting by name, with its default, unit and reason."""
    for group, part in Recipe.model_fields.items():
        if not (isinstance(part.annotation, type) and issubclass(part.annotation, BaseModel)):
            continue
        for field, found in part.annotation.model_fields.items():
            unit = (found.json_schema_extra or {}).get("unit", "").replace("reach", "in the unit of the reach")
            default = found.get_default(call_default_factory=True)
            print(f"{group}.{field} = {json.dumps(default)}{f' {unit}' if unit else ''}\n    {found.description}")
    return 0


def _recipe_file(options: argparse.Namespace) -> Recipe:
    """The settings of --recipe, or the defaults; --together on top."""
    recipe = Recipe()
    if options.recipe:
        try:
            text = options.recipe.read_text()
        except (OSError, UnicodeDecodeError) as error:
            raise InputProblem(
                str(options.recipe), f"The recipe cannot be read ({error}).", "Check its path."
            ) from error
        recipe = Recipe.model_validate_json(text)
    if options.together:
        recipe.pairing.together = True
    return recipe


def _meshes(options: argparse.Namespace, bar: "_Bar") -> tuple[BakeMeshes, list[MeshFile]]:
    """The meshes of a command line, and what the manifest says of their files."""
    if not options.files + options.low + options.high:
        raise InputProblem("The command", "No mesh is named.", "Give files, or --low and --high.")
    meshes, sources = BakeMeshes([], []), []
    for role, paths, into in (
        ("low", options.low, meshes.lows), ("high", options.high, meshes.highs),
        ("cage", getattr(options, "cage", []), meshes.cages), ("by name", options.files, meshes.named),
    ):  # fmt: skip
        for path in paths:
            bar.show(f"reading {path.name}", 0.0)
            mesh = read_mesh(path)
            into.append(mesh)
            sources.append(MeshFile(role=role, file=path.name, sha256=sha256_of(path), triangles=len(mesh.triangles)))
    return meshes, sources


def _check(options: argparse.Namespace) -> int:
    """Exit code by the worst finding: 0 notes or nothing, 3 warnings, 4 blocking."""
    bar = _Bar()
    try:
        meshes, _ = _meshes(options, bar)
        found = check(_recipe_file(options), meshes)
    finally:
        bar.end()
    if options.json:
        rows = [
            {
                "check": f.check, "severity": f.severity, "title": f.title, "part": f.part, "count": f.count,
                "what": f.what, "remedy": f.remedy, "fix": f.fix.words if f.fix else None, "place": f.place,
            }
            for f in found
        ]  # fmt: skip
        print(json.dumps(rows, indent=2))
    else:
        for f in found:
            print(f"{f.severity:<8} {f.title}{f': {f.part}' if f.part else ''}\n         {f.what} {f.remedy}")
        print(f"{len(found)} findings" if found else "Nothing to object to.")
    worst = {f.severity for f in found}
    return 4 if "blocking" in worst else 3 if "warning" in worst else 0


def _pair(options: argparse.Namespace) -> int:
    bar = _Bar()
    try:
        meshes, _ = _meshes(options, bar)
        paired = assemble(_recipe_file(options), meshes).paired
    finally:
        bar.end()
    if options.json:
        pairs = [
            {"pair": p.name, "parts": [{"part": part.key, "role": r} for r, part in p.members]} for p in paired.pairs
        ]
        alone = [{"part": a.part.key, "role": a.role, "why": a.reason} for a in paired.alone]
        print(json.dumps({"pairs": pairs, "alone": alone}, indent=2))
        return 0
    for pair in paired.pairs:
        print(f"{pair.name}: {', '.join(p.name for p in pair.lows)} sees {', '.join(p.name for p in pair.giving)}")
        if pair.cages:
            print(f"  cage {', '.join(p.name for p in pair.cages)}")
    for alone in paired.alone:
        print(f"alone: {alone.part.key}: {alone.reason}")
    return 0


def _convert(options: argparse.Namespace) -> int:
    mesh = read_mesh(options.source)
    write_mesh(options.target, mesh)
    kept = {".obj": 1, ".ply": 1}.get(options.target.suffix.lower(), len(mesh.uvs))
    if len(mesh.uvs) > kept:
        print(f"note: this format keeps the first of {len(mesh.uvs)} UV channels.")
    if options.target.suffix.lower() == ".ply" and len(mesh.object_names) > 1:
        print(f"note: PLY keeps no names; the {len(mesh.object_names)} parts become one.")
    print(f"{options.target}: {len(mesh.triangles):,} triangles, {len(mesh.object_names)} parts")
    return 0


def _put_together(options: argparse.Namespace, bar: "_Bar") -> tuple[Assembly, Warm]:
    """The piece of a command line, ready for its cage."""
    meshes, _ = _meshes(options, bar)
    warm = Warm()
    assembly = assemble(recipe_of(options), meshes, warm)
    refuse_unpaired(assembly)
    return assembly, warm


def _cage(options: argparse.Namespace) -> int:
    bar = _Bar()
    try:
        assembly, warm = _put_together(options, bar)
        cage = cage_of(assembly, warm, lambda share: bar.show("fitting the cage", share))
        write_mesh(options.out, cage_mesh(assembly, warm))
        found = coverage(assembly, warm.sculpt(assembly), cage, located_of(assembly, warm))
    finally:
        bar.end()
    for form in cage.forms:
        print(f"cage of {form.pair}: {form.words}")
    if assembly.recipe.pockets or assembly.recipe.nudges:
        print("note: pockets and nudges are written as they move the low's vertices; inside its faces they are lost.")
    mean, even = found.cage.mean_outward, found.needed[0]
    gain = f", {1 - mean / even:.0%} less than the even reach of {even:.4g} that holds as much" if even > mean else ""
    print(f"{options.out}: rays start {mean:.4g} scene units out in the mean{gain}")
    print(f"{found.points_outside:,} of {found.points:,} vertices of the sculpt lie outside it")
    return 0


def _coverage(options: argparse.Namespace) -> int:
    """Exit code 0 where all of the sculpt is held, 3 where not."""
    bar = _Bar()
    try:
        assembly, warm = _put_together(options, bar)
        cage = cage_of(assembly, warm, lambda share: bar.show("fitting the cage", share))
        found = coverage(assembly, warm.sculpt(assembly), cage, located_of(assembly, warm))
    finally:
        bar.end()
    facts = CoverageFacts.of(found)
    if options.json:
        places = [dataclasses.asdict(place) for place in [*found.places, *found.gaps.places]]
        forms = [{"pair": f.pair, "form": f.form, "words": f.words} for f in cage.forms]
        print(json.dumps(facts.model_dump() | {"places": places, "cages": forms}, indent=2))
    else:
        for form in cage.forms:
            print(f"cage of {form.pair}: {form.words}")
        print(f"{facts.held:.2%} of the sculpt's surface held; rays start {facts.mean_outward:.4g} out in the mean")
        print(f"{facts.vertices_outside:,} of {facts.vertices:,} vertices outside, worst {facts.worst_outside:.4g}")
        print(f"{facts.vertices_below:,} below the inner reach, worst {facts.worst_below:.4g}")
        print(f"a reach of {facts.needed_outward:.4g} out and {facts.needed_inward:.4g} in would hold everything")
        print(
            f"{facts.rays_missed:.2%} of the low's rays strike nothing, {facts.rays_behind:.2%} start behind a surface"
        )
        print(f"{facts.faces_folded:,} cage faces folded, {facts.faces_crossing:,} crossing")
        for place in [*found.places, *found.gaps.places]:
            where = " ".join(f"{v:.4g}" for v in place.middle)
            print(f"  {place.lack:<8} {place.part} at {where}, radius {place.radius:.3g}, by {place.beyond:.4g}")
    return 0 if facts.held == 1 else 3


def _bake(options: argparse.Namespace) -> int:
    recipe = recipe_of(options)
    bar = _Bar()
    meshes, sources = _meshes(options, bar)
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
    if manifest.coverage_of_sculpt:
        print(f"coverage: {manifest.coverage_of_sculpt.held:.2%} of the sculpt held by the cage")
    for pair in manifest.pairs:
        if pair.cage_words:
            print(f"cage of {pair.name}: {pair.cage_words}")
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
