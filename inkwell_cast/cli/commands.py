"""What the commands do; each gives its exit code."""

import argparse
import contextlib
import json
import pathlib
from collections.abc import Callable
from typing import TYPE_CHECKING, TypeVar

from ..core.bake.expected_time import share_of_baking
from ..core.bake.manifest import Manifest, MeshFile, SeenFacts
from ..core.bake.measured_reach import measure, try_fit
from ..core.bake.memory_estimate import need_of
from ..core.base.errors import InputProblem
from ..core.base.progress import Progress, part_of
from ..core.checks import check
from ..core.flaws import Flaw
from ..core.formats import read_mesh, write_mesh
from ..core.handoff.convert_normals import convert_file
from ..core.handoff.export_meshes import low_mesh
from ..core.handoff.mix import mix_files
from ..core.mending.bake_with_mends import Made, make
from ..core.piece.assembly import assemble
from ..core.piece.scene_cache import Warm
from ..core.settings.basis import Basis
from ..core.settings.limits import HeldTo
from ..core.settings.mends_overlay import Report
from ..engine.cluster import cluster_at
from .bar import Bar
from .input import meshes_of, recipe_file, recipe_of, taken

if TYPE_CHECKING:
    from ..engine.cluster.client import Cluster

SAID, PARTS = 10, 3  # causes of flaws, and parts of each
T = TypeVar("T")
BEYOND = 3  # exit code for what is worse than a limit


def run_check(options: argparse.Namespace) -> int:
    """Exit code by the worst finding: 0 notes or nothing, 3 warnings, 4 blocking."""
    bar = Bar()
    try:
        meshes, _ = meshes_of(options, bar)
        findings = check(taken(recipe_file(options), meshes), meshes)
    finally:
        bar.end()
    if options.json:
        rows = [
            {
                "check": f.check,
                "severity": f.severity,
                "title": f.title,
                "part": f.part,
                "count": f.count,
                "what": f.what,
                "remedy": f.remedy,
                "fix": f.fix.words if f.fix else None,
                "fixes": [remedy.words for remedy in f.remedies],
                "place": f.place,
            }
            for f in findings
        ]
        print(json.dumps(rows, indent=2))
    else:
        for f in findings:
            print(f"{f.severity:<8} {f.title}{f': {f.part}' if f.part else ''}\n         {f.what} {f.remedy}")
        print(f"{len(findings)} findings" if findings else "Nothing to object to.")
    worst = {f.severity for f in findings}
    return 4 if "blocking" in worst else 3 if "warning" in worst else 0


def run_pair(options: argparse.Namespace) -> int:
    bar = Bar()
    try:
        meshes, _ = meshes_of(options, bar)
        paired = assemble(taken(recipe_file(options), meshes), meshes).paired
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
    for left in paired.alone:
        print(f"alone: {left.part.key}: {left.reason}")
    return 0


def run_convert(options: argparse.Namespace) -> int:
    mesh = read_mesh(options.source)
    for note in mesh.notes:
        print(f"note: {note}")
    write_mesh(options.target, mesh)
    kept = {".obj": 1, ".ply": 1}.get(options.target.suffix.lower(), len(mesh.uvs))
    if len(mesh.uvs) > kept:
        print(f"note: this format keeps the first of {len(mesh.uvs)} UV channels.")
    if options.target.suffix.lower() == ".ply" and len(mesh.object_names) > 1:
        print(f"note: PLY keeps no names; the {len(mesh.object_names)} parts become one.")
    print(f"{options.target}: {len(mesh.triangles):,} triangles, {len(mesh.object_names)} parts")
    return 0


def run_mix(options: argparse.Namespace) -> int:
    mix_files(options.kind, options.given, options.out)
    print(f"{options.out}: {options.kind} of {', '.join(path.name for path in options.given)}")
    return 0


def convert_basis(options: argparse.Namespace) -> int:
    source, target = (basis_of(option, text) for option, text in (("--from", options.source), ("--to", options.target)))
    said = convert_file(options.map, options.out, read_mesh(options.low), source, target, options.channel)
    if said:
        print(f"note: {said}")
    print(f"{options.out}: {options.source} to {options.target}")
    return 0


def basis_of(option: str, text: str) -> Basis | None:
    """A basis in words; None for object space."""
    kind, *given = [part.strip() for part in text.split(",")]
    if kind == "object" and not given:
        return None
    if kind != "tangent" or any("=" not in part for part in given):
        raise InputProblem(option, f"“{text}” is no basis.", "Give object, or tangent such as tangent,green=down.")
    return Basis.model_validate(dict(part.split("=", 1) for part in given))


def baked(options: argparse.Namespace, bar: Bar) -> tuple[Made, list[MeshFile]]:
    """The bake that a command line asks for, and the files it was made of."""
    meshes, sources = meshes_of(options, bar)
    recipe, warm = recipe_of(options, meshes).held_to(HeldTo(options.limit)), Warm()
    if options.measure:
        look = try_fit if recipe.reach.shape == "fitted" else measure
        found = look(recipe, meshes, progress=lambda share: bar.show("trying on small bakes", share), warm=warm)
        recipe = found.set_in(recipe, assemble(recipe, meshes, warm).low.diagonal)
        bar.end()
        print(f"measured: {found.words}")
    bar.end()
    assembly = assemble(recipe, meshes, warm)
    print(f"memory: {need_of(assembly).words}")
    baking = part_of(bar.show, 0.0, share_of_baking(assembly))
    with cluster_of(options) as cluster:
        return make(recipe, meshes, options.mend, baking, warm=warm, remote=cluster), sources


def saving(made: Made, bar: Bar) -> Progress:
    """What hears how far the saving of a bake is, as the part of the whole that it is."""
    share = share_of_baking(made.bake.assembly)
    return part_of(bar.show, share, 1 - share)


def cluster_of(options: argparse.Namespace) -> contextlib.AbstractContextManager["Cluster | None"]:
    """The cluster that is to trace, while the block lasts; None for this process. Raises InputProblem."""
    address = getattr(options, "cluster", None)
    return contextlib.closing(cluster_at(address)) if address else contextlib.nullcontext()


def run_bake(options: argparse.Namespace) -> int:
    """Exit code 0, or 3 beyond a limit."""
    bar = Bar()
    try:
        made, sources = baked(options, bar)
        manifest = written(lambda: made.save(options.out, sources, progress=saving(made, bar)), options.out)
        if options.mesh:
            written(lambda: write_mesh(options.mesh, low_mesh(made.bake.assembly, made.bake.warm)), options.mesh)
    finally:
        bar.end()
    tell(manifest)
    print(f"{manifest.texels:,} texels, {manifest.missed_texels:,} missed; {len(manifest.maps)} maps in {options.out}")
    return say_beyond(manifest.beyond)


def written(write: Callable[[], T], place: pathlib.Path) -> T:
    """What `write` gives. Raises InputProblem that names the place where it cannot be written."""
    try:
        return write()
    except OSError as error:
        raise InputProblem(
            str(place), f"It cannot be written ({error.strerror}).", "Choose another folder or free some space."
        ) from error


def say_beyond(said: list[str]) -> int:
    """Say which limits are passed; the exit code for that, 0 for none."""
    for words in said:
        print(f"beyond the limit: {words}")
    return BEYOND if said else 0


def tell(manifest: Manifest) -> None:
    """What a bake found, in lines."""
    for warning in [*manifest.warnings, *manifest.notes]:
        print(f"note: {warning}")
    if manifest.mending:
        _say_mending(manifest.mending)
    if manifest.straightened:
        turned = manifest.straightened
        print(f"straightened: rays on {turned.share:.1%} of the low, by up to {turned.most:.0f}°")
    if manifest.recipe.limits.judge == "none":
        print("not judged: its maps alone were wanted")
    if manifest.seen:
        print(f"as seen: {seen_words(manifest.seen)}")
    rated = [(pair.name, pair.seen) for pair in manifest.pairs if pair.seen]
    for name, seen in rated if len(rated) > 1 else []:
        print(f"  {name}, alone: {seen_words(seen)}")
    if manifest.likeness:
        print(f"rounding of the file: mean {manifest.likeness.mean:.4f}°")
    say_flaws(manifest.flaws or [])
    if manifest.coverage_of_sculpt:
        covered = manifest.coverage_of_sculpt
        but = f", but {covered.rays_missed:.2%} of the low's rays strike nothing" if covered.rays_missed else ""
        print(f"coverage: {covered.held:.2%} of the sculpt held by the cage{but}")
    for entry in manifest.maps:
        if "distance_after" in entry.facts:
            before, after, white = (entry.facts[name] for name in ("distance_before", "distance_after", "white"))
            print(f"displacement: black is {-white:.6g}, white {white:.6g} scene units")
            print(f"relief: the sculpt stands {after[0]:.3g} off the displaced low in the mean, was {before[0]:.3g}")
    for pair in manifest.pairs:
        if pair.cage_words:
            print(f"cage of {pair.name}: {pair.cage_words}")


def say_flaws(flaws: list[Flaw]) -> None:
    """The causes that show most, each with its places, in lines."""
    causes = dict[str, list[Flaw]]()
    for flaw in flaws:
        causes.setdefault(flaw.cause, []).append(flaw)
    for first, *others in [*causes.values()][:SAID]:
        parts = [*dict.fromkeys(flaw.part.rpartition("/")[2] for flaw in (first, *others) if flaw.part)]
        where = f", {', '.join(parts[:PARTS])}{f' and {len(parts) - PARTS} more' if len(parts) > PARTS else ''}"
        places = f" in {len(others) + 1} places" if others else ""
        print(f"flaw: {first.title.lower()}{places}{where if parts else ''}: {first.what} {first.remedy}")
    if len(causes) > SAID:
        print(f"and {len(causes) - SAID} more causes; see manifest.json")


def seen_words(seen: SeenFacts) -> str:
    bake = seen.bake
    return (
        f"mean {bake.mean:.2f}°, 95 % within {bake.p95:.2f}°, over 30° {bake.over_30:.2%}, outline {bake.outline:.2%}; "
        f"best on this low {seen.best.mean:.2f}°, {seen.excess:.2f}° to mend"
    )


def _say_mending(report: Report) -> None:
    for tried in report.tried:
        what = f"{tried.title.lower()}, {tried.part.rpartition('/')[2]}: {tried.words.lower()}"
        print(f"mended: {what}" if tried.kept else f"not mended: {what} did no good")
    (before, after), (more, less) = report.flaws, report.weight
    print(f"mended all: {before} flaws before, {after} after; {more:.2f}° to mend before, {less:.2f}° after")
    if report.seen:
        print(f"mean angle as seen, on trials: {report.seen[0]:.2f}° before, {report.seen[1]:.2f}° after")
