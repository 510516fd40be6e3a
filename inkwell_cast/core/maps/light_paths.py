"""Irradiance at the texels of a sheet, by path tracing from what their samples struck.

All values are irradiance over pi: an environment of radiance 1 all around, or a sun of 1 straight above, gives 1, which
makes a white surface white. A path leaves cosine-weighted about a hit's normal. At each vertex of it direct light is
added: sun, lamps and bright places of the environment, each with a shadow ray. Where its ray strikes nothing it takes
the radiance of the environment; where it strikes the sculpt it takes what that emits, its throughput is multiplied by
the surface's albedo, and it goes on cosine-weighted for as many bounces as are wanted. Both sides of a surface emit and
reflect. Direct light at the texel is kept apart from indirect light. J. Kajiya, "The Rendering Equation", SIGGRAPH
1986.
"""

from dataclasses import dataclass, field

import numpy as np

from ..base.array_types import F32, F64, AnyArray
from ..base.disk_arrays import on_disk, room
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, record_kind, record_of, view
from ..base.sampling_sequence import cosine_direction, further_point, points_of_texel, square_point
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import occluders_on
from ..cast.shading_normal import shading_normal
from ..cast.texel import barycentrics_at, triangle_at
from ..mesh.normals import face_normal
from ..piece.occluders import Occluders
from ..rays.embree import hit_along
from ..uv.rasterise import tile_box
from .carried import CarriedColors, color_at
from .denoise import denoised
from .direct_light import add_direct_light, environment_radiance
from .hits_of_tile import over_tiles, point_of, samples_of, tiles_of, triangles_of, weights_at
from .occlusion import LIFT, bits_for
from .ray_bundle import MOST_HITS, UNEVEN

Scene = tuple[Record, Record, Record, Record]  # the sculpt, its albedo, its emission, and `PATHS`
ROUND = 16  # paths between two looks at their variance
NOTHING = np.zeros((1, 1, 3), np.float32)
PATHS = record_kind(
    {
        "tracers": (np.uint64, 2),
        "first": np.int64,
        "lamps": (np.float64, 6),
        "sky": (np.float32, "rows", "columns", 3),
        "bright": (np.float64, 7),
    },
    rays=np.int64,
    bits=np.int64,
    bounces=np.int64,
    far=np.float64,
    lift=np.float64,
    noise=np.float64,
    rows=np.int64,
    columns=np.int64,
    panorama=np.int64,
    of_low=np.int64,
    salt=np.int64,
    brightest=np.float64,
    sun=("f8", 7),
    above=("f8", 3),
    below=("f8", 3),
)


@dataclass(frozen=True, slots=True)
class Lights:
    """What lights a piece.

    sun is the way to it (3, unit), the sine of half its disc's angle, and its light (3); lamps (L, 6) are places in
    scene units and light as it falls straight on a surface one scene unit off; the sky is the mean of above and below
    by height, or a panorama (H, W, 3) whose middle column is -z, y up, with its bright places (N, 7) apart from it, see
    `panorama.parted`.
    """

    sun: F64 = field(default_factory=lambda: np.zeros(7))
    lamps: F64 = field(default_factory=lambda: np.zeros((0, 6)))
    above: Vector = (0.0, 0.0, 0.0)
    below: Vector = (0.0, 0.0, 0.0)
    panorama: F32 | None = None
    bright: F64 = field(default_factory=lambda: np.zeros((0, 7)))

    @property
    def brightest(self) -> float:
        """The most that one ray can bring."""
        sky = 0.0 if self.panorama is None else float(self.panorama.max())
        near = max(float(self.lamps[:, 3:].max(initial=0)), float(self.bright[:, 4:].max(initial=0)))
        return max(sky, *self.above, *self.below, float(self.sun[4:].max()), near)


@dataclass(frozen=True, slots=True)
class PathScene:
    """What the paths of a layer trace: the surroundings, their albedo and the radiance that they emit."""

    surroundings: Occluders
    albedo: CarriedColors
    emission: CarriedColors


@dataclass(frozen=True, slots=True)
class PathSettings:
    """At most `rays` paths a texel, rays no longer than `far` scene units, about the low's normals if `of_low`."""

    rays: int
    noise: float
    bounces: int
    far: float
    salt: int
    of_low: bool = False


def surroundings_of(context: Context, surroundings: str) -> Occluders:
    """The sculpt of the own pair, or of the whole piece, floaters with it."""
    return occluders_on(context, "everything" if surroundings == "piece" else "all")


def trace_paths(
    context: Context,
    hits: Hits,
    scene: PathScene,
    lights: Lights,
    paths: PathSettings,
    surroundings: str,
    out: AnyArray,
    progress: ShareDone,
    cancelled: Cancel,
) -> None:
    """The irradiance of each texel into out (H, W, 6): direct, then indirect."""
    first = context.sculpt.first[:-1] if surroundings == "pair" else np.zeros(len(context.sculpt.first) - 1, np.int64)
    sky = NOTHING if lights.panorama is None else np.ascontiguousarray(lights.panorama, np.float32)
    brightest = max(lights.brightest, scene.emission.brightest)
    settings = record_of(
        PATHS,
        tracers=scene.surroundings.tracers,
        first=np.ascontiguousarray(first),
        sky=sky,
        rows=sky.shape[0],
        columns=sky.shape[1],
        panorama=lights.panorama is not None,
        rays=paths.rays,
        bits=bits_for(paths.rays),
        bounces=paths.bounces,
        far=paths.far,
        lift=LIFT * context.assembly.low.diagonal,
        noise=paths.noise,
        of_low=paths.of_low,
        salt=paths.salt,
        brightest=brightest,
        sun=lights.sun,
        above=lights.above,
        below=lights.below,
        lamps=np.ascontiguousarray(lights.lamps, np.float64),
        bright=np.ascontiguousarray(lights.bright, np.float64),
    )
    records: tuple[Record, ...] = (context.sculpt.record, scene.albedo.record, scene.emission.record, settings)
    arguments = ((context.low.record, context.cast.record, context.rays.record), records, out)
    over_tiles(hits, context.low.grid, _of_tiles, arguments, progress, cancelled)


def denoised_layer(context: Context, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> AnyArray:
    """A layer of irradiance (H, W, 6) with the noise of few paths filtered out; texels that struck nothing stay."""
    smooth = room(out.shape, out.dtype.type, on_disk(out))
    channels = out.shape[2]
    for c in range(channels):
        most = np.float32(max(float(out[..., c].max(initial=0)), 1e-30))

        def tell(part: float, before: int = c) -> None:
            progress((before + part) / channels)

        smooth[..., c] = most * denoised(np.asarray(out[..., c] / most, np.float32), context, tell, cancelled)
    return smooth


@kernel
def _of_tiles(
    first: int, last: int, hits: Record, grid: Record, sheet: tuple[Record, Record, Record], scene: Scene, out: F32
) -> None:
    """The irradiance of the texels of some tiles.

    sheet are the records of low, cast and rays.
    """
    (low, cast, rays), (sculpt, _, _, settings) = sheet, scene
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    pair = view(rays, "pair")
    vertices, irradiance, scratch = np.empty((MOST_HITS, 9)), np.zeros(6), np.zeros((3, 3))
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                count = 0
                for s in range(side * side):
                    n = begin + s // side * stride + s % side
                    t = triangle[n]
                    if t >= 0:
                        place, face = point_of(n, t, settings.lift, hits, sculpt)
                        _, b1, b2 = weights_at(n, hits)
                        normal = shading_normal(t, b1, b2, sculpt)
                        if settings.of_low:
                            normal = _normal_of_low(x0 + x, y0 + y, low, cast)
                        for c in range(3):
                            vertices[count, c], vertices[count, 3 + c], vertices[count, 6 + c] = (
                                place[c],
                                normal[c],
                                face[c],
                            )
                        count += 1
                if count:
                    own = pair[triangle_at(x0 + x, y0 + y, cast)]
                    start, seed = points_of_texel(x0 + x, y0 + y, settings.salt, settings.bits)
                    _irradiance_of_texel(vertices[:count], own, start, seed, scene, scratch, irradiance)
                    for c in range(6):
                        out[y0 + y, x0 + x, c] = irradiance[c]


@kernel
def _normal_of_low(x: int, y: int, low: Record, cast: Record) -> Vector:
    """The low's own unit normal at a texel."""
    t = triangle_at(x, y, cast)
    b0, b1, b2 = barycentrics_at(x, y, t, low, cast)
    n = view(low, "normals")[t]
    nx = b0 * n[0, 0] + b1 * n[1, 0] + b2 * n[2, 0]
    ny = b0 * n[0, 1] + b1 * n[1, 1] + b2 * n[2, 1]
    nz = b0 * n[0, 2] + b1 * n[1, 2] + b2 * n[2, 2]
    size = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-12)
    return nx / size, ny / size, nz / size


@kernel(error_model="numpy")
def _irradiance_of_texel(
    vertices: F64, pair: int, start: int, seed: int, scene: Scene, scratch: F64, irradiance: F64
) -> None:
    """The mean of the paths from a texel's hits (N, 9) into irradiance (6,), until its variance is small enough."""
    settings = scene[3]
    irradiance[:] = 0
    sums, squares, traced, turns = scratch[0], 0.0, 0, len(vertices)
    for r in range((settings.rays + turns - 1) // turns * turns):
        before = irradiance[0] + irradiance[1] + irradiance[2] + irradiance[3] + irradiance[4] + irradiance[5]
        if not _trace_path(vertices[r % turns], pair, start + r, seed, scene, scratch, irradiance):
            continue
        traced += 1
        brought = (
            irradiance[0] + irradiance[1] + irradiance[2] + irradiance[3] + irradiance[4] + irradiance[5] - before
        ) / 3
        sums[0] = brought if traced == 1 else sums[0] + brought
        squares = brought * brought if traced == 1 else squares + brought * brought
        if settings.noise > 0 and traced % ROUND == 0 and (r + 1) % turns == 0:
            mean = sums[0] / traced
            deviation = np.sqrt(max(squares / traced - mean * mean, 0.0))
            root = np.sqrt(np.sqrt(np.float64(traced)))
            missed = settings.brightest / traced  # what is so small that one ray more may meet it for the first time
            if UNEVEN * deviation / (root * root * root) + missed <= settings.noise * max(mean, 1.0):
                break
    if traced:
        for c in range(6):
            irradiance[c] /= traced


@kernel(error_model="numpy")
def _trace_path(vertex: F64, pair: int, index: int, seed: int, scene: Scene, scratch: F64, irradiance: F64) -> bool:
    """One path from a hit (9,), added to irradiance (6,); whether its first ray leaves the surface at all."""
    sculpt, albedo, emission, settings = scene
    tracer = view(settings, "tracers")[pair]
    px, py, pz, nx, ny, nz = vertex[0], vertex[1], vertex[2], vertex[3], vertex[4], vertex[5]
    gx, gy, gz = vertex[6], vertex[7], vertex[8]
    radiance, throughput = scratch[1], scratch[2]
    throughput[:] = 1.0
    for bounce in range(settings.bounces + 1):
        u, v = further_point(index, seed, 2 * bounce) if bounce else square_point(index, seed)
        dx, dy, dz = cosine_direction(u, v, 1.0, nx, ny, nz)
        if dx * gx + dy * gy + dz * gz <= 0:
            return bounce > 0
        part = irradiance[3:] if bounce else irradiance[:3]
        sample = index, seed, 2 * bounce + 1
        add_direct_light((px, py, pz), (nx, ny, nz), tracer, sample, settings, throughput, part)
        _, b1, b2, hit = hit_along(tracer[0], tracer[1], px, py, pz, dx, dy, dz, settings.far)
        if hit < 0:
            environment_radiance(dx, dy, dz, settings, radiance)
            for c in range(3):
                part[c] += throughput[c] * radiance[c]
            return True
        t, b1, b2 = hit + view(settings, "first")[pair], np.float64(b1), np.float64(b2)
        b = 1 - b1 - b2, b1, b2
        color_at(t, b, emission, radiance)
        for c in range(3):
            part[c] += throughput[c] * radiance[c]
        if bounce == settings.bounces:
            return True
        color_at(t, b, albedo, radiance)
        for c in range(3):
            throughput[c] *= min(max(radiance[c], 0.0), 1.0)
        positions = view(sculpt, "positions")
        row = view(sculpt, "triangles")[t]
        p, q, s = positions[row[0]], positions[row[1]], positions[row[2]]
        gx, gy, gz = face_normal(p, q, s)
        side = 1.0 if gx * dx + gy * dy + gz * dz < 0 else -1.0
        gx, gy, gz = side * gx, side * gy, side * gz
        nx, ny, nz = gx, gy, gz  # about smooth normals some would go into the surface, and their light be lost
        px = b[0] * p[0] + b1 * q[0] + b2 * s[0] + settings.lift * gx
        py = b[0] * p[1] + b1 * q[1] + b2 * s[1] + settings.lift * gy
        pz = b[0] * p[2] + b1 * q[2] + b2 * s[2] + settings.lift * gz
    return True
