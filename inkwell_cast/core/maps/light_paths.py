"""Light that reaches the texels of a sheet: what paths from their hits meet, bounce by bounce.

All values are in the light that makes a white surface white: irradiance over pi, so a sky of 1 all around, or a sun of
1 straight above, gives 1. A path leaves cosine-weighted about a hit's normal. Where it meets nothing it sees the sky;
where it meets the sculpt it takes what glows there, and what the sun and the lamps give there times the surface's
colour, and goes on cosine-weighted for as many bounces as are wanted. Both sides of a surface send and reflect. What is
seen from the texel itself is kept apart from what was reflected on the way. J. Kajiya, "The Rendering Equation",
SIGGRAPH 1986.
"""

from dataclasses import dataclass, field

import numpy as np

from ..base.array_types import F32, F64, Any_
from ..base.disk_arrays import on_disk, room
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, record_kind, record_of, view
from ..base.sampling_sequence import cosine_direction, frame_about, further_point, points_of_texel, square_point, turn
from ..cast.context import Context
from ..cast.hits import Hits
from ..cast.occluders import Occluders, occluders_on
from ..cast.shading_normal import shading_normal
from ..cast.texel import barycentrics_at, triangle_at
from ..mesh.normals import face_normal
from ..rays.embree import blocked, hit_along
from ..uv.rasterise import tile_box
from .carried import CarriedColors, color_at
from .denoise import denoised
from .hits_of_tile import over_tiles, point_of, samples_of, tiles_of, triangles_of, weights_at
from .occlusion import LIFT, bits_for
from .ray_bundle import MOST_HITS, UNEVEN

AIMED = 1 << 10  # from which on points are those that aim at bright places
ROUND = 16  # paths between two looks at their error
NOTHING = np.zeros((1, 1, 3), np.float32)
LIT = record_kind(
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
    above: tuple[float, float, float] = (0.0, 0.0, 0.0)
    below: tuple[float, float, float] = (0.0, 0.0, 0.0)
    panorama: F32 | None = None
    bright: F64 = field(default_factory=lambda: np.zeros((0, 7)))

    @property
    def brightest(self) -> float:
        """The most that one ray can bring."""
        sky = 0.0 if self.panorama is None else float(self.panorama.max())
        near = max(float(self.lamps[:, 3:].max(initial=0)), float(self.bright[:, 4:].max(initial=0)))
        return max(sky, *self.above, *self.below, float(self.sun[4:].max()), near)


@dataclass(frozen=True, slots=True)
class Ready:
    """What paths of a layer need: what they meet, and what that reflects and sends."""

    met: Occluders
    reflects: CarriedColors
    sends: CarriedColors


@dataclass(frozen=True, slots=True)
class Paths:
    """How paths go: at most `rays` a texel, no longer than `far` scene units, from the low's normals if `of_low`."""

    rays: int
    noise: float
    bounces: int
    far: float
    salt: int
    of_low: bool = False


def met_by(context: Context, surroundings: str) -> Occluders:
    """The sculpt of the own pair, or of the whole piece, floaters with it."""
    return occluders_on(context, "everything" if surroundings == "piece" else "all")


def follow(
    context: Context,
    hits: Hits,
    ready: Ready,
    lights: Lights,
    paths: Paths,
    surroundings: str,
    out: Any_,
    progress: ShareDone,
    cancelled: Cancel,
) -> None:
    """The light at each texel into out (H, W, 6): what it is lit by straight on, and what was reflected before."""
    first = context.sculpt.first[:-1] if surroundings == "pair" else np.zeros(len(context.sculpt.first) - 1, np.int64)
    sky = NOTHING if lights.panorama is None else np.ascontiguousarray(lights.panorama, np.float32)
    brightest = max(lights.brightest, ready.sends.brightest)
    lit = record_of(
        LIT,
        tracers=ready.met.tracers,
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
    scene: tuple[Record, ...] = (context.sculpt.record, ready.reflects.record, ready.sends.record, lit)
    arguments = ((context.low.record, context.cast.record, context.rays.record), scene, out)
    over_tiles(hits, context.low.grid, _of_tiles, arguments, progress, cancelled)


def smoothed(context: Context, out: Any_, progress: ShareDone, cancelled: Cancel) -> Any_:
    """A layer of light (H, W, 6) with what few rays left rough smoothed; texels that struck nothing stay."""
    smooth = room(out.shape, out.dtype.type, on_disk(out))
    channels = out.shape[2]
    for c in range(channels):
        most = np.float32(max(float(out[..., c].max(initial=0)), 1e-30))

        def tell(part: float, before: int = c) -> None:
            progress((before + part) / channels)

        smooth[..., c] = most * denoised(np.asarray(out[..., c] / most, np.float32), context, tell, cancelled)
    return smooth


@kernel
def _of_tiles(first, last, hits, grid, sheet, scene, out):  # type: ignore[no-untyped-def]
    """The light at the texels of some tiles.

    sheet are the records of low, cast and rays, scene those of the sculpt, of what it reflects and sends, and `LIT`.
    """
    (low, cast, rays), (sculpt, _, _, lit) = sheet, scene
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    pair = view(rays, "pair")
    places, found, room = np.empty((MOST_HITS, 9)), np.zeros(6), np.zeros((3, 3))
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
                        place, face = point_of(n, t, lit.lift, hits, sculpt)
                        _, b1, b2 = weights_at(n, hits)
                        normal = shading_normal(t, b1, b2, sculpt)
                        if lit.of_low:
                            normal = _normal_of_low(x0 + x, y0 + y, low, cast)
                        for c in range(3):
                            places[count, c], places[count, 3 + c], places[count, 6 + c] = place[c], normal[c], face[c]
                        count += 1
                if count:
                    own = pair[triangle_at(x0 + x, y0 + y, cast)]
                    start, seed = points_of_texel(x0 + x, y0 + y, lit.salt, lit.bits)
                    _at_texel(places[:count], own, start, seed, scene, room, found)
                    for c in range(6):
                        out[y0 + y, x0 + x, c] = found[c]


@kernel
def _normal_of_low(x, y, low, cast):  # type: ignore[no-untyped-def]
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
def _at_texel(places, pair, start, seed, scene, room, found):  # type: ignore[no-untyped-def]
    """The mean of the paths from a texel's hits (N, 9), into found (6,), until its error is small enough."""
    lit = scene[3]
    found[:] = 0
    sums, square, traced, turns = room[0], 0.0, 0, len(places)
    for r in range((lit.rays + turns - 1) // turns * turns):
        before = found[0] + found[1] + found[2] + found[3] + found[4] + found[5]
        if not _follow(places[r % turns], pair, start + r, seed, scene, room, found):
            continue
        traced += 1
        light = (found[0] + found[1] + found[2] + found[3] + found[4] + found[5] - before) / 3
        sums[0] = light if traced == 1 else sums[0] + light
        square = light * light if traced == 1 else square + light * light
        if lit.noise > 0 and traced % ROUND == 0 and (r + 1) % turns == 0:
            mean = sums[0] / traced
            spread = np.sqrt(max(square / traced - mean * mean, 0.0))
            root = np.sqrt(np.sqrt(np.float64(traced)))
            missed = lit.brightest / traced  # what is so small that one ray more may meet it for the first time
            if UNEVEN * spread / (root * root * root) + missed <= lit.noise * max(mean, 1.0):
                break
    if traced:
        for c in range(6):
            found[c] /= traced


@kernel(error_model="numpy")
def _follow(place, pair, index, seed, scene, room, found):  # type: ignore[no-untyped-def]
    """One path from a hit (9,), added to found (6,); whether its first ray leaves the surface at all."""
    sculpt, reflects, sends, lit = scene
    tracer = view(lit, "tracers")[pair]
    px, py, pz, nx, ny, nz = place[0], place[1], place[2], place[3], place[4], place[5]
    gx, gy, gz = place[6], place[7], place[8]
    color, through = room[1], room[2]
    through[:] = 1.0
    for bounce in range(lit.bounces + 1):
        u, v = further_point(index, seed, 2 * bounce) if bounce else square_point(index, seed)
        dx, dy, dz = cosine_direction(u, v, 1.0, nx, ny, nz)
        if dx * gx + dy * gy + dz * gz <= 0:
            return bounce > 0
        light = found[3:] if bounce else found[:3]
        _straight((px, py, pz), (nx, ny, nz), tracer, (index, seed, 2 * bounce + 1), lit, through, light)
        _, b1, b2, hit = hit_along(tracer[0], tracer[1], px, py, pz, dx, dy, dz, lit.far)
        if hit < 0:
            _sky(dx, dy, dz, lit, color)
            for c in range(3):
                light[c] += through[c] * color[c]
            return True
        t, b1, b2 = hit + view(lit, "first")[pair], np.float64(b1), np.float64(b2)
        b = 1 - b1 - b2, b1, b2
        color_at(t, b, sends, color)
        for c in range(3):
            light[c] += through[c] * color[c]
        if bounce == lit.bounces:
            return True
        color_at(t, b, reflects, color)
        for c in range(3):
            through[c] *= min(max(color[c], 0.0), 1.0)
        positions = view(sculpt, "positions")
        row = view(sculpt, "triangles")[t]
        p, q, s = positions[row[0]], positions[row[1]], positions[row[2]]
        gx, gy, gz = face_normal(p, q, s)
        side = 1.0 if gx * dx + gy * dy + gz * dz < 0 else -1.0
        gx, gy, gz = side * gx, side * gy, side * gz
        nx, ny, nz = gx, gy, gz  # about smooth normals some would go into the surface, and their light be lost
        px = b[0] * p[0] + b1 * q[0] + b2 * s[0] + lit.lift * gx
        py = b[0] * p[1] + b1 * q[1] + b2 * s[1] + lit.lift * gy
        pz = b[0] * p[2] + b1 * q[2] + b2 * s[2] + lit.lift * gz
    return True


@kernel(error_model="numpy")
def _straight(place, normal, tracer, point, lit, through, light):  # type: ignore[no-untyped-def]
    """What sun and lamps give at a place that they see, times `through`, added to light (3,).

    point is what `further_point` takes.
    """
    (px, py, pz), (nx, ny, nz) = place, normal
    sun = lit.sun
    if sun[4] + sun[5] + sun[6] > 0:
        u, v = further_point(point[0], point[1], point[2])
        ax, ay, az, bx, by, bz = frame_about(sun[0], sun[1], sun[2])
        r, (c, s) = sun[3] * np.sqrt(u), turn(v)
        up = np.sqrt(max(0.0, 1 - r * r))
        sx = up * sun[0] + r * (c * ax + s * bx)
        sy = up * sun[1] + r * (c * ay + s * by)
        sz = up * sun[2] + r * (c * az + s * bz)
        cosine = nx * sx + ny * sy + nz * sz
        if cosine > 0 and not blocked(tracer[0], tracer[1], px, py, pz, sx, sy, sz, 1e30):
            for k in range(3):
                light[k] += through[k] * cosine * sun[4 + k]
    if lit.bright_count:
        _bright(place, normal, tracer, point, lit, through, light)
    lamps = view(lit, "lamps")
    for n in range(len(lamps)):
        lx, ly, lz = lamps[n, 0] - px, lamps[n, 1] - py, lamps[n, 2] - pz
        away = np.sqrt(lx * lx + ly * ly + lz * lz)
        cosine = (nx * lx + ny * ly + nz * lz) / max(away, 1e-30)
        if cosine > 0 and not blocked(tracer[0], tracer[1], px, py, pz, lx / away, ly / away, lz / away, away):
            for k in range(3):
                light[k] += through[k] * cosine * lamps[n, 3 + k] / (away * away)


@kernel(error_model="numpy")
def _bright(place, normal, tracer, point, lit, through, light):  # type: ignore[no-untyped-def]
    """What one of the panorama's bright places gives, chosen as often as it gives light; as in `_straight`."""
    bright = view(lit, "bright")
    u, v = further_point(point[0], point[1], AIMED + point[2])
    low, high = 0, len(bright) - 1
    while low < high:
        middle = (low + high) // 2
        if bright[middle, 0] > u:
            high = middle
        else:
            low = middle + 1
    begun = bright[low - 1, 0] if low else 0.0
    within = (u - begun) / max(bright[low, 0] - begun, 1e-30)
    up = bright[low, 2] + v * (bright[low, 3] - bright[low, 2])
    c, s = turn(bright[low, 1] + within / lit.columns)  # the picture's left border is toward +z, its first quarter -x
    r = np.sqrt(max(0.0, 1 - up * up))
    dx, dz = -s * r, c * r
    (px, py, pz), (nx, ny, nz) = place, normal
    cosine = nx * dx + ny * up + nz * dz
    if cosine > 0 and not blocked(tracer[0], tracer[1], px, py, pz, dx, up, dz, 1e30):
        for k in range(3):
            light[k] += through[k] * cosine * bright[low, 4 + k]


@kernel(error_model="numpy")
def _sky(dx, dy, dz, lit, color):  # type: ignore[no-untyped-def]
    """The light of the sky from a unit way, into color (3,)."""
    if not lit.panorama:
        up = 0.5 + 0.5 * dy
        for c in range(3):
            color[c] = up * lit.above[c] + (1 - up) * lit.below[c]
        return
    sky = view(lit, "sky")
    x = (0.5 + np.arctan2(dx, -dz) / (2 * np.pi)) * lit.columns - 0.5
    y = np.arccos(min(max(dy, -1.0), 1.0)) / np.pi * lit.rows - 0.5
    left, top = np.int64(np.floor(x)), np.int64(np.floor(y))
    x, y = x - left, y - top
    color[:] = 0
    for j in range(2):
        for i in range(2):
            weight = (x if i else 1 - x) * (y if j else 1 - y)
            row, column = min(max(top + j, 0), lit.rows - 1), (left + i) % lit.columns
            for c in range(3):
                color[c] += weight * sky[row, column, c]
