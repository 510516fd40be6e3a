"""Cast efficiency: a whole bake's casting against a bare loop that traces the same rays."""

import time

import numba
import numpy as np

from inkwell_cast.core.bake.cast_cache import laid_out
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.cage.cage import rays_of
from inkwell_cast.core.cast.hits import OFF, Cast
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.rays.ray import make_ray
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.uv.rasterise import sample_barycentrics
from inkwell_cast.demo import gull, inkstand, token

from .bare import bare_scene, strike
from .shapes import sphere

RECIPE = Recipe(
    reach=Reach(outward=3, inward=3),
    sheet=Sheet(width=2048, height=2048, samples=4),
    output=Output(maps=["normal", "height", "ids"]),
)


def with_reach(outward: float) -> Recipe:
    """A bake of the bench with another reach, so that it casts anew."""
    return RECIPE.model_copy(update={"reach": Reach(outward=outward, inward=3)})


@numba.njit(nogil=True)
def _rays(low_triangle, grid, bake_rays):  # type: ignore[no-untyped-def]
    """The bake's rays in sheet order, for a sheet whose texels each belong to one triangle or its neighbour."""
    side = grid.side
    height, width = low_triangle.shape
    rays = np.empty((height * width * side * side, 7), np.float32)
    n = 0
    for y in range(height):
        for x in range(width):
            t = low_triangle[y, x]
            if t < 0:
                continue
            for s in range(side * side):
                b0, b1, b2 = sample_barycentrics(t, x, y, s % side, s // side, grid)
                ray = make_ray(t, b0, b1, b2, bake_rays)
                for k in range(6):
                    rays[n, k] = ray[k]
                rays[n, 6] = ray[7]
                n += 1
    return rays[:n]


def measure(rounds: int = 15) -> dict[str, float]:
    """Seconds of both, taken in turn, and the median of their ratios."""
    low, high = sphere(60), sphere(1000, 0.02, uvs=False)
    warm, meshes = Warm(), BakeMeshes([low], [high])
    first = bake(RECIPE, meshes, warm=warm)
    g, from_low = first.low.grid, rays_of(first.assembly, first.cage, first.low.triangles)
    rays = _rays(first.cast.low_triangle, g.record, from_low.record)
    scene, out = bare_scene(first.sculpt.scenes[0].vertices, first.sculpt.mesh.triangles), np.empty(len(rays), np.int32)
    strike(scene, rays, out)
    bare, casting, whole = [], [], []
    for n in range(rounds):
        started = time.perf_counter()
        strike(scene, rays, out)
        bare.append(time.perf_counter() - started)
        started = time.perf_counter()
        casting.append(bake(with_reach(3 + 1e-6 * (n + 1)), meshes, warm=warm).seconds["casting"])
        whole.append(time.perf_counter() - started)
    ratio = np.array(casting) / np.array(bare)
    return {
        "triangles": len(high.triangles),
        "rays": len(rays),
        "bare_seconds": float(np.median(bare)),
        "casting_seconds": float(np.median(casting)),
        "bake_seconds": float(np.median(whole)),
        "casting_over_bare": float(np.median(ratio)),
        "bake_over_bare": float(np.median(np.array(whole) / np.array(bare))),
    }


def measure_adaptive(size: int = 512) -> dict[str, float]:
    """Adaptive 64 and plain 16 samples against plain 64 on the demo pieces: the worst of their errors and ray counts.

    Errors are root mean squares of the difference between a texel's mean normals, before they are made unit.
    """
    worst = {"error_over_plain_16": 0.0, "rays_over_plain_64": 0.0}
    for piece, (outward, inward) in ((inkstand, (2.5, 2.0)), (gull, (4.0, 5.0)), (token, (1.4, 0.6))):
        meshes, warm = BakeMeshes([], [], [*piece.build()]), Warm()

        def cast(samples: int, adaptive: bool) -> tuple[Cast, int]:
            recipe = Recipe(
                reach=Reach(unit="scene", outward=outward, inward=inward),  # noqa: B023
                sheet=Sheet.model_validate({"width": size, "height": size, "samples": samples, "adaptive": adaptive}),
            )
            made = bake(recipe, meshes, warm=warm)  # noqa: B023
            hits = laid_out(made.assembly, meshes, warm).sheets[0].hits  # noqa: B023
            assert hits is not None
            return made.cast, int((hits.triangle != OFF).sum())

        (whole, all_rays), (plain, _), (found, rays) = cast(64, False), cast(16, False), cast(64, True)
        own = (whole.struck > 0) & (plain.struck > 0) & (found.struck > 0)
        errors = [np.sqrt(((c.normal - whole.normal)[own] ** 2).sum(axis=1).mean()) for c in (found, plain)]
        worst["error_over_plain_16"] = max(worst["error_over_plain_16"], float(errors[0] / errors[1]))
        worst["rays_over_plain_64"] = max(worst["rays_over_plain_64"], rays / all_rays)
    return worst
