"""`inkwell-cast lods`."""

import argparse

from ..core.handoff.bake_lods import bake_lods, lods_of, save_lods
from ..core.review.from_afar import DISTANCES
from .bar import Bar
from .commands import written
from .input import meshes_of, recipe_of


def run_lods(options: argparse.Namespace) -> int:
    bar = Bar()
    try:
        meshes, sources = meshes_of(options, bar)
        recipe = recipe_of(options, meshes, lods_of(meshes)[0])  # lengths are typed for the finest
        made = bake_lods(recipe, meshes, options.share, bar.show)
        options.out.mkdir(parents=True, exist_ok=True)
        written(lambda: save_lods(made, options.out, sources), options.out)
    finally:
        bar.end()
    print("level  triangles  as seen   best    " + "  ".join(f"{pixels:>4} px" for pixels in DISTANCES))
    for own in made:
        f = own.facts
        differs = "  ".join(f"{f.differs[pixels]:7.1%}" for pixels in DISTANCES)
        worn = "" if f.worn == f.level else f"  wears the maps of level {f.worn}"
        print(f"{f.level:>5}  {f.triangles:>9,}  {f.seen:6.2f}°  {f.best:5.2f}°  {differs}{worn}")
    print(f"in {options.out}, with levels.json; what differs is the light of four pictures, by how high they are drawn")
    return 0
