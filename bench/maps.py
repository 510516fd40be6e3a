"""Occlusion against a bare loop over the same rays, and what an artist waits for between a change and its picture."""

import time
from dataclasses import replace

import numba
import numpy as np

from inkwell_cast.core.bake.cast_cache import laid_out
from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.base.sampling_sequence import cosine_direction, points_of_texel, square_point
from inkwell_cast.core.cast.shading_normal import shading_normal
from inkwell_cast.core.maps import LAYERS, occlusion
from inkwell_cast.core.maps.hits_of_tile import point_of, samples_of, tiles_of, triangles_of, weights_at
from inkwell_cast.core.maps.layer import empty
from inkwell_cast.core.maps.occlusion import LIFT
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.piece.scene_cache import Warm
from inkwell_cast.core.settings.basis import Basis
from inkwell_cast.core.settings.maps import Glow, Light, Occlusion, Rounded
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet
from inkwell_cast.core.uv.rasterise import tile_box
from inkwell_cast.demo import gull, inkstand, lantern, token

from .bare import bare_scene, is_blocked
from .shapes import sphere

RAYS, BITS, TILES = 64, 6, 256  # a quarter of the sheet: its rays fit into memory


@numba.njit(nogil=True)
def _rays(hits, grid, sculpt, lift, rays):  # type: ignore[no-untyped-def]
    """The rays that the layer traces, in its order, for one sample a texel."""
    tiles, triangle, count = tiles_of(hits), triangles_of(hits), 0
    for k in range(len(tiles)):
        x0, y0, columns, down = tile_box(tiles[k], grid)
        for y in range(down):
            for x in range(columns):
                n, _ = samples_of(k, x, y, columns, hits, grid)
                t, (first, seed) = triangle[n], points_of_texel(x0 + x, y0 + y, 1, BITS)
                if t < 0:
                    continue
                place, face = point_of(n, t, lift, hits, sculpt)
                _, b1, b2 = weights_at(n, hits)
                n0, n1, n2 = shading_normal(t, b1, b2, sculpt)
                for r in range(RAYS):
                    u, v = square_point(first + r, seed)
                    d = cosine_direction(u, v, 1.0, n0, n1, n2)
                    if d[0] * face[0] + d[1] * face[1] + d[2] * face[2] <= 0:
                        continue
                    rays[count, 0], rays[count, 1], rays[count, 2] = place
                    rays[count, 3], rays[count, 4], rays[count, 5] = d
                    count += 1
    return count


def measure(rounds: int = 5) -> dict[str, float]:
    """Seconds of the layer and of the loop, taken in turn, and those of a proof and of a change of basis."""
    low, high = sphere(60), replace(sphere(1000, 0.02, uvs=False), name="high", object_names=("high",))
    warm, meshes = Warm(), BakeMeshes([low], [high])
    recipe = Recipe(
        reach=Reach(outward=3, inward=3),
        sheet=Sheet(width=1024, height=1024, samples=1),
        output=Output(maps=["normal"]),
        occlusion=Occlusion(rays=RAYS, noise=0),
    )
    made = bake(recipe, meshes, warm=warm)
    context, work = made.sheets[0].context, laid_out(made.assembly, meshes, warm).sheets[0]
    hits = work.hits
    assert hits is not None
    part = replace(hits, tiles=hits.tiles[:TILES], starts=hits.starts[: TILES + 1])
    rays = np.empty((int(part.starts[-1]) * RAYS, 6), np.float32)
    count = _rays(part.record, context.low.grid.record, context.sculpt.record, LIFT * low.diagonal, rays)
    rays, ready, out = rays[:count], occlusion.prepare(context), empty(LAYERS["occlusion"], context.cast)
    found = np.empty(count, np.bool_)
    scene = bare_scene(context.sculpt.scenes[0].vertices, context.sculpt.mesh.triangles, both_sides=True)
    is_blocked(scene, rays, found)
    bare, layer = [], []
    for _ in range(rounds):
        started = time.perf_counter()
        is_blocked(scene, rays, found)
        bare.append(time.perf_counter() - started)
        started = time.perf_counter()
        occlusion.gather(context, part, ready, out, lambda share: None, lambda: False)
        layer.append(time.perf_counter() - started)
    return {
        "rays": count,
        "bare_seconds": float(np.median(bare)),
        "occlusion_seconds": float(np.median(layer)),
        "occlusion_over_bare": float(np.median(np.array(layer) / np.array(bare))),
        **_waits(meshes, warm, rounds),
    }


def _waits(meshes: BakeMeshes, warm: Warm, rounds: int) -> dict[str, float]:
    """A proof with its occlusion after a change of the reach, and a new basis on a full bake; medians in seconds."""
    proofs, bases = [], []
    full = Recipe(reach=Reach(outward=3, inward=3), output=Output(maps=["normal", "occlusion"]))
    proof = full.proof()
    for n in range(rounds + 1):
        moved = proof.model_copy(update={"reach": Reach(outward=3 + 0.01 * n, inward=3)})
        started = time.perf_counter()
        bake(moved, meshes, warm=warm)
        proofs.append(time.perf_counter() - started)
    full = full.model_copy(update={"output": Output(maps=["normal"])})
    bake(full, meshes, warm=warm)
    for n in range(rounds):
        turned = full.model_copy(update={"basis": Basis(green="down" if n % 2 == 0 else "up")})
        started = time.perf_counter()
        bake(turned, meshes, warm=warm)
        bases.append(time.perf_counter() - started)
    return {"proof_seconds": float(np.median(proofs[1:])), "basis_seconds": float(np.median(bases))}


def measure_denoise(size: int = 512) -> dict[str, float]:
    """Errors of 16 rays, of those denoised, of 128 and of 1024 denoised against 1024: the worst ratios of the pieces.

    What denoising does to 1024 rays, which are hardly rough, is what it washes out: no fewer rays can come below that.
    """
    found = {"denoised_over_rough": 0.0, "denoised_over_128": 0.0, "washed_out_over_128": 0.0}
    for piece, (outward, inward) in ((inkstand, (2.5, 2.0)), (gull, (4.0, 5.0)), (token, (1.4, 0.6))):
        meshes, warm, shades = BakeMeshes([], [], [*piece.build()]), Warm(), []
        for rays, denoise in ((1024, False), (16, False), (16, True), (128, False), (1024, True)):
            recipe = Recipe(
                reach=Reach(unit="scene", outward=outward, inward=inward),
                sheet=Sheet(width=size, height=size, samples=4),
                output=Output(maps=["occlusion"], depth=16),
                occlusion=Occlusion(rays=rays, noise=0, denoise=denoise),
            )
            made = bake(recipe, meshes, warm=warm)
            shades.append(made.images["occlusion"][made.cast.struck > 0].astype(np.float64))
        rough, smooth, many, washed_out = (float(np.sqrt(((shade - shades[0]) ** 2).mean())) for shade in shades[1:])
        found["denoised_over_rough"] = max(found["denoised_over_rough"], smooth / rough)
        found["denoised_over_128"] = max(found["denoised_over_128"], smooth / many)
        found["washed_out_over_128"] = max(found["washed_out_over_128"], washed_out / many)
    return found


def measure_light(rounds: int = 3) -> dict[str, float]:
    """Seconds of the layers of light and of rounded normals over those of occlusion, as many rays a texel, in turn."""
    meshes, warm = BakeMeshes([], [], [*lantern.build()]), Warm()
    recipe = Recipe(
        reach=Reach(unit="scene", outward=1.6, inward=1.6),
        sheet=Sheet(width=512, height=512, samples=1),
        output=Output(maps=["normal"]),
        occlusion=Occlusion(rays=RAYS, noise=0),
        glow=Glow(rays=RAYS, noise=0, bounces=0),
        light=Light(rays=RAYS, noise=0, bounces=0),
        rounded=Rounded(rays=RAYS, denoise=False),
    )
    bounced = recipe.model_copy(update={"glow": Glow(rays=RAYS, noise=0, bounces=1)})
    kinds = {key: (key, recipe) for key in ("occlusion", "glow", "light", "rounded")} | {"bounce": ("glow", bounced)}
    spent: dict[str, list[float]] = {name: [] for name in kinds}
    for n in range(rounds + 1):
        for name, (key, own) in kinds.items():
            made = bake(own, meshes, warm=warm)
            context, work = made.sheets[0].context, laid_out(made.assembly, meshes, warm).sheets[0]
            assert work.hits is not None
            layer = LAYERS[key]
            ready, out = layer.prepare(context), empty(layer, context.cast)
            started = time.perf_counter()
            layer.gather(context, work.hits, ready, out, lambda share: None, lambda: False)
            if n:
                spent[name].append(time.perf_counter() - started)
    base = np.array(spent["occlusion"])
    found = {f"{name}_over_occlusion": float(np.median(np.array(each) / base)) for name, each in spent.items()}
    return found | {"occlusion_seconds": float(np.median(base))}
