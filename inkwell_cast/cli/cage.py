"""The commands cage and coverage."""

import argparse
import dataclasses
import json

from ..core.bake.measured_reach import measure, try_fit
from ..core.bake.refusals import refuse_unpaired
from ..core.base.figures import figure
from ..core.cage.coverage import CoverageFacts, coverage
from ..core.cage.fit import cage_of
from ..core.cage.inverse_rays import located_of
from ..core.formats import write_mesh
from ..core.handoff.export_meshes import cage_mesh
from ..core.piece.assembly import assemble
from ..core.piece.piece import Assembly
from ..core.piece.scene_cache import Warm
from ..core.settings.scopes import together
from .bar import Bar
from .input import meshes_of, recipe_of


def put_together(options: argparse.Namespace, bar: "Bar") -> tuple[Assembly, Warm]:
    """The piece of a command line, ready for its cage."""
    meshes, _ = meshes_of(options, bar)
    warm = Warm()
    assembly = assemble(recipe_of(options, meshes), meshes, warm)
    refuse_unpaired(assembly)
    return assembly, warm


def run_cage(options: argparse.Namespace) -> int:
    bar = Bar()
    try:
        assembly, warm = put_together(options, bar)
        cage = cage_of(assembly, warm, lambda share: bar.show("fitting the cage", share))
        write_mesh(options.out, cage_mesh(assembly, warm))
        covered = coverage(assembly, warm.sculpt(assembly), cage, located_of(assembly, warm))
    finally:
        bar.end()
    for form in cage.forms:
        print(f"cage of {form.pair}: {form.words}")
    if assembly.recipe.pockets or assembly.recipe.nudges:
        print("note: pockets and nudges are written as they move the low's vertices; inside its faces they are lost.")
    mean, even = covered.cage.mean_outward, covered.needed[0]
    gain = f", {1 - mean / even:.0%} less than the even reach of {even:.4g} that holds as much" if even > mean else ""
    print(f"{options.out}: rays start {mean:.4g} scene units out in the mean{gain}")
    print(f"{covered.points_outside:,} of {covered.points:,} vertices of the sculpt lie outside it")
    return 0


def run_measure(options: argparse.Namespace) -> int:
    """Print the reach that looks best, and with --fit how a cage looks that is fitted from it."""
    bar = Bar()
    try:
        meshes, _ = meshes_of(options, bar)
        recipe, warm = recipe_of(options, meshes), Warm()

        def show(share: float) -> None:
            bar.show("trying on small bakes", share)

        scope = together(options.scope or ["piece"])
        fitted = try_fit(recipe, meshes, show, warm=warm) if options.fit else None
        found = fitted.even if fitted else measure(recipe, meshes, scope, show, warm=warm)
    finally:
        bar.end()
    if options.json:
        facts = dataclasses.asdict(found) | ({"fitted": fitted.fitted} if fitted else {})
        print(json.dumps(facts, indent=2))
        return 0
    print(found.words)
    for place in found.places:
        where = " ".join(f"{v:.4g}" for v in place.middle)
        print(f"  {place.lack:<8} {place.part} at {where}, radius {figure(place.radius)}, by {place.beyond:.4g}")
    if fitted:
        print(fitted.words)
    return 0


def run_coverage(options: argparse.Namespace) -> int:
    """Exit code 0 where all of the sculpt is held and every ray strikes, 3 where not."""
    bar = Bar()
    try:
        assembly, warm = put_together(options, bar)
        cage = cage_of(assembly, warm, lambda share: bar.show("fitting the cage", share))
        covered = coverage(assembly, warm.sculpt(assembly), cage, located_of(assembly, warm))
    finally:
        bar.end()
    facts = CoverageFacts.of(covered)
    if options.json:
        places = [dataclasses.asdict(place) for place in [*covered.places, *covered.gaps.places]]
        forms = [{"pair": f.pair, "form": f.form, "words": f.words} for f in cage.forms]
        print(json.dumps(facts.model_dump() | {"places": places, "cages": forms}, indent=2))
    else:
        for form in cage.forms:
            print(f"cage of {form.pair}: {form.words}")
        for verdict in covered.verdicts:
            if verdict.wrong:
                print(f"cage of {verdict.pair}: {verdict.words}")
        but = f", but {facts.rays_missed:.2%} of the low's rays strike nothing" if facts.rays_missed else ""
        print(
            f"{facts.held:.2%} of the sculpt's surface held{but}; rays start {facts.mean_outward:.4g} out in the mean"
        )
        print(f"{facts.vertices_outside:,} of {facts.vertices:,} vertices outside, worst {facts.worst_outside:.4g}")
        print(f"{facts.vertices_below:,} below the inner reach, worst {facts.worst_below:.4g}")
        print(f"a reach of {facts.needed_outward:.4g} out and {facts.needed_inward:.4g} in would hold everything")
        if near := covered.closest:
            where = " ".join(f"{v:.4g}" for v in near.middle)
            print(f"closest to {covered.nearest_end}: {near.part} at {where}, {-near.beyond:.4g} to spare")
        print(f"{facts.rays_behind:.2%} of the low's rays start behind a surface")
        print(f"{facts.faces_folded:,} cage faces folded, {facts.faces_crossing:,} crossing")
        for place in [*covered.places, *covered.gaps.places]:
            where = " ".join(f"{v:.4g}" for v in place.middle)
            print(f"  {place.lack:<8} {place.part} at {where}, radius {figure(place.radius)}, by {place.beyond:.4g}")
    return 0 if covered.all_well else 3
