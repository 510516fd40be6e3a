"""Memory of a large bake, in a process of its own: all maps at 8192 texels with 64 samples each."""

from .scale import run

_LARGE = """
import json, sys, tempfile, threading, time
from typing import get_args
from inkwell_cast.core.assembly import Warm
from inkwell_cast.core.bake import BakeMeshes, bake
from inkwell_cast.core.map_settings import Occlusion, Thickness
from inkwell_cast.core.memory import needed
from inkwell_cast.core.recipe import MapKey, Output, Reach, Recipe, Sheet
from inkwell_cast.demo import token
meshes, warm, peak = BakeMeshes([], [], [*token.build()]), Warm(), [0]
keys = [key for key in get_args(MapKey) if key != "displacement"]
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
    bake(recipe(8192, 64), meshes, warm=warm).save(folder)
need = needed(recipe(8192, 64), [(8192, 8192)])
print(json.dumps({"gigabytes": (peak[0] - before) / 1e9, "seconds": time.perf_counter() - started,
                  "disk_gigabytes": need.disk / 1e9, "estimate_gigabytes": need.memory / 1e9, "maps": len(keys)}))
"""


def measure() -> object:
    """What the process holds above meshes and scenes, pages that lie in files left out: the system may drop those."""
    return run(_LARGE)
