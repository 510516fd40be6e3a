"""Memory of a large bake, in a process of its own: all maps at 8192 texels with 64 samples each."""

from .scale import run

_LARGE = """
import json, sys, tempfile, threading, time
from inkwell_cast.core.settings.map_names import MAPS
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.bake.saving import save
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Occlusion, Thickness
from inkwell_cast.core.bake.memory_estimate import needed
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.demo import token
meshes, warm, peak = BakeMeshes([], [], [*token.build()]), Warm(), [0]
keys = [key for key in MAPS if key != "displacement"]
def recipe(side, samples):
    return Recipe(reach=Reach(unit="scene", outward=1.4, inward=0.6),
                  sheet=Sheet(width=side, height=side, samples=samples),
                  output=Output(maps=keys), occlusion=Occlusion(rays=4), thickness=Thickness(rays=4))
def own():
    lines = open("/proc/self/status").read().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("RssAnon")) * 1024
def watch():
    while True:
        peak[0] = max(peak[0], own())
        time.sleep(0.02)
bake(recipe(64, 4), meshes, warm=warm)
before = own()
threading.Thread(target=watch, daemon=True).start()
started = time.perf_counter()
with tempfile.TemporaryDirectory() as folder:
    save(bake(recipe(8192, 64), meshes, warm=warm), folder)
need = needed(recipe(8192, 64), [(8192, 8192)])
print(json.dumps({"gigabytes": (peak[0] - before) / 1e9, "seconds": time.perf_counter() - started,
                  "disk_gigabytes": need.disk / 1e9, "estimate_gigabytes": need.memory / 1e9, "maps": len(keys)}))
"""


def measure() -> object:
    """What the process holds above meshes and scenes, pages that lie in files left out: the system may drop those."""
    return run(_LARGE)
