"""The command that judges a normal map made elsewhere."""

import argparse
import pathlib

from ..core.base.errors import InputProblem
from ..core.handoff.judge_map import ANY, THE_MAP, Judged, bring_in
from ..core.images import read_picture
from ..core.piece.piece import BakeMeshes
from ..core.settings.limits import HeldTo
from ..core.settings.pairing import read_name
from ..core.settings.recipe import Recipe
from .bar import Bar
from .commands import BEYOND, basis_of, cluster_of, say_beyond, say_flaws, seen_words, written
from .input import meshes_of, recipe_file, taken


def run_judge(options: argparse.Namespace) -> int:
    """Exit code 0, or 3 beyond a limit."""
    bar, reading = Bar(), basis_of("--basis", options.basis) if options.basis else ANY
    images = [read_picture(path) for path in options.map]
    try:
        meshes, sources = meshes_of(options, bar)
        recipe = taken(recipe_file(options), meshes).held_to(HeldTo(options.limit))
        with cluster_of(options) as cluster:
            brought = bring_in(recipe, _low_first(meshes, recipe), images, reading, bar.show, remote=cluster)
        judged = brought.judged
        if options.out:
            written(lambda: brought.save(options.out, sources), options.out)
    except InputProblem as problem:
        problem.where = options.map[0].name if problem.where == THE_MAP else problem.where
        raise
    finally:
        bar.end()
    if options.json:
        print(judged.model_dump_json(indent=2))
        return BEYOND if judged.beyond else 0
    _tell(judged, guessed=not options.basis)
    return say_beyond(judged.beyond)


def _low_first(meshes: BakeMeshes, recipe: Recipe) -> BakeMeshes:
    """Two files of which no name says a role are the low and the high."""
    if len(meshes.named) != 2 or meshes.lows or meshes.highs:
        return meshes
    names = [name for mesh in meshes.named for name in (*mesh.object_names, pathlib.PurePath(mesh.name).stem)]
    if any(read_name(name, recipe.pairing) for name in names):
        return meshes
    low, high = meshes.named
    return BakeMeshes([low], [high])


def _tell(judged: Judged, guessed: bool) -> None:
    others = ", ".join(f"{name} {mean:.2f}°" for name, mean in judged.readings.items() if name != judged.reading)
    print(f"read as {judged.reading}{f', which is seen best ({others})' if guessed and others else ''}")
    print(f"as seen: {seen_words(judged.seen)}")
    for name, seen in judged.pairs.items() if len(judged.pairs) > 1 else []:
        print(f"  {name}, alone: {seen_words(seen)}")
    if judged.missed:
        print(f"missed: {judged.missed:.2%} of the texels under the low hold no normal")
    say_flaws(judged.flaws)
