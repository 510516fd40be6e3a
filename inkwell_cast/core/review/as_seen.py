"""Likeness as seen: the angle between sculpt and low with its map, from evenly spread directions around the piece.

For each of N directions of a spherical Fibonacci lattice an orthographic picture frames low and sculpt together, with a
jittered ray per pixel. On the low the nearest front face counts, with the normal that a receiver computes from the
written file, read bilinearly: normalize(x T + y B + z N). On the sculpt the nearest surface counts, with its
interpolated unit normal; a back face that is met first is *inside seen*. Where both are hit: their angle. Where only
one is, or both but so far apart that they are not the same place: *outline*. All pixels weigh the same. So a figure
here gets worse whenever a viewer sees a worse bake, which the rounding of a file (`review/likeness.py`) does not.
"""

from dataclasses import dataclass

import numba
import numpy as np
from pydantic import BaseModel
from scipy.ndimage import uniform_filter

from ..base.array_types import F32, F64, I32, I64, Bool
from ..base.borrowed_arrays import block
from ..base.records import Record, record_kind, record_of
from ..base.sampling_sequence import hashed
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.occluders import occluders_on
from ..cast.shading_normal import shading_normal
from ..maps.hits_of_tile import face_normal
from ..maps.position import box_of
from ..rays.embree import Scene, Vertices, hit_along, tracers_of
from .worn_pictures import Pictures, Worn, normal_of_low, worn

VIEWS, PROOF_VIEWS = 32, 16
LEAST, MOST, PROOF_MOST = 128, 1024, 256  # pixels on a side of a picture
LEAST_ALONE = 48  # of a pair alone, which has few texels where there are many pairs
BINS = 18_000  # of a hundredth of a degree
BESIDE = 2  # texels
APART = 0.03  # of the low's diagonal: surfaces farther apart along a ray are two places, not one
NEITHER, OUTLINE, INSIDE = -1.0, -2.0, -3.0  # what stands in the place of an angle
SCENES = record_kind({"low": np.uint64, "rows": np.int32, "sculpt": np.uint64}, first=np.int64, apart=np.float64)


class AsSeen(BaseModel):
    """Angles in degrees over the pixels that hit both; shares from 0 to 1.

    over_5, over_15 and over_30 are shares of those pixels; outline and inside shares of the pixels that hit either.
    """

    mean: float
    p95: float
    over_5: float
    over_15: float
    over_30: float
    outline: float
    inside: float
    pixels: int


@dataclass(frozen=True, slots=True)
class _View:
    """A picture from one direction: `side` pixels on a side, from `centre` as far as `half` each way; scene units."""

    numbers: F64  # centre, right, up, toward the viewer (3 each), half, depth
    side: int
    seed: int


@dataclass(frozen=True, slots=True)
class Seen:
    """What was seen: the figures of the whole and of each pair alone, and the angle at every texel, (H, W) by sheet.

    Angles are means over the directions that see a texel, NaN for one that none sees; never_seen is the share of the
    covered texels that no direction sees with all parts in place.
    """

    whole: AsSeen | None
    pairs: list[AsSeen | None]
    angles: list[F32]
    never_seen: float


def as_seen(contexts: list[Context], pictures: list[Pictures], proof: bool = False) -> list[Seen]:
    """How the sheets of a piece, one context each, look with some sets of pictures, all judged by the same pixels.

    `proof` looks from fewer directions at smaller pictures. Raises Cancelled where the work is no longer wanted.
    """
    context, dressed = contexts[0], [worn(contexts, each) for each in pictures]
    covered = [c.cast.covered > 0 for c in contexts]
    texels, pairs = sum(int(on.sum()) for on in covered), len(context.assembly.paired.pairs)
    sums = [_Sums(each.texels) for each in dressed]
    whole = _render(context, dressed, _scenes(context, None), texels, proof, sums)
    alone = [whole]
    if pairs > 1:
        alone = []
        for pair in range(pairs):
            mine = context.assembly.low_pair == pair
            share = sum(int((on & mine[_low_rows(c)]).sum()) for on, c in zip(covered, contexts, strict=True))
            alone.append(_render(context, dressed, _scenes(context, pair), share, proof, None))
    found = []
    for n, summed in enumerate(sums):
        angles = summed.means(covered)
        unseen = sum(int((on & np.isnan(a)).sum()) for on, a in zip(covered, angles, strict=True))
        found.append(Seen(whole[n], [figures[n] for figures in alone], angles, unseen / max(texels, 1)))
    return found


def _low_rows(context: Context) -> I32:
    """The triangle of the whole low at every texel, (H, W); any where none lies."""
    return np.asarray(context.low.triangles[np.maximum(context.cast.low_triangle, 0)])


@dataclass(frozen=True, slots=True)
class _Scenes:
    """What rays strike: rows (K,) int32 are the triangles of the low; record is of the kind `SCENES`."""

    rows: I32
    record: Record


class _Sums:
    """Angles summed by texel, in the order of the views and pixels."""

    def __init__(self, texels: int) -> None:
        self.angle, self.count = np.zeros(texels, np.float64), np.zeros(texels, np.int32)

    def means(self, covered: list[Bool]) -> list[F32]:
        """The mean angle at every texel of sheets (H, W); NaN where none was added within `BESIDE` texels.

        Two pixels a texel leave every seventh without one by chance; those take the mean of what lies around them.
        """
        ends = np.cumsum([on.size for on in covered])[:-1]
        parts = zip(np.split(self.angle, ends), np.split(self.count, ends), covered, strict=True)
        return [_mean(angle.reshape(on.shape), count.reshape(on.shape), on) for angle, count, on in parts]


def _mean(angle: F64, count: I32, covered: Bool) -> F32:
    side, mean = 2 * BESIDE + 1, np.full(angle.shape, np.nan, np.float32)
    seen = count > 0
    mean[seen] = angle[seen] / count[seen]
    around = uniform_filter(count.astype(np.float64), side, mode="constant") * side * side
    by_chance = covered & ~seen & (around > 0.5)
    summed = uniform_filter(angle, side, mode="constant") * side * side
    mean[by_chance] = np.maximum(summed[by_chance], 0) / around[by_chance]
    return mean


def _scenes(context: Context, pair: int | None) -> _Scenes:
    """What rays strike: the whole piece, or one pair alone."""
    low, sculpt, stopped = context.assembly.low, context.sculpt, context.warm.stopped
    if pair is None:
        rows = np.arange(len(low.triangles), dtype=np.int32)
        tracers, first = occluders_on(context, "everything").tracers[:1], 0
    else:
        rows = np.flatnonzero(context.assembly.low_pair == pair).astype(np.int32)
        tracers, first = occluders_on(context, "all").tracers[pair : pair + 1], int(sculpt.first[pair])
    scene = Scene(Vertices(low.positions), low.triangles[rows], cancelled=stopped)
    record = record_of(
        SCENES, low=tracers_of([scene]), rows=rows, sculpt=tracers, first=first, apart=APART * low.diagonal
    )
    return _Scenes(rows, record)


def _render(
    context: Context, dressed: list[Worn], scenes: _Scenes, texels: int, proof: bool, sums: list[_Sums] | None
) -> list[AsSeen | None]:  # fmt: skip
    """Look from all directions; adds to `sums`. Figures for each way in which the low is dressed, None for no hits."""
    counts = [np.zeros(3, np.int64) for _ in dressed]
    bins, totals = [np.zeros(BINS + 1, np.int64) for _ in dressed], [0.0 for _ in dressed]
    for view in _views(context, scenes, texels, proof):
        pixels = _picture(context, scenes, view)
        for n, each in enumerate(dressed):
            angle, texel = _judged(context, pixels, each)
            hit = angle >= 0
            counts[n] += [hit.sum(), (angle == OUTLINE).sum(), (angle == INSIDE).sum()]
            totals[n] += float(angle[hit].sum(dtype=np.float64))
            bins[n] += np.bincount((angle[hit] * np.float32(BINS / 180)).astype(np.int64), minlength=BINS + 1)
            if sums:
                _add(angle, texel, sums[n].angle, sums[n].count)
    return [_figures(*each) for each in zip(counts, bins, totals, strict=True)]


@dataclass(frozen=True, slots=True)
class _Pixels:
    """What the rays of a view strike.

    state (N,) float32 is 0 for both, else OUTLINE, INSIDE or NEITHER; low (N,) int32 the triangle of the low, b (N, 2)
    float32 its second and third barycentric, normal (N, 3) float32 the sculpt's.
    """

    state: F32
    low: I32
    b: F32
    normal: F32


def _picture(context: Context, scenes: _Scenes, view: _View) -> _Pixels:
    size = view.side * view.side
    made = _Pixels(
        np.empty(size, np.float32), np.empty(size, np.int32), np.empty((size, 2), np.float32),
        np.empty((size, 3), np.float32),
    )  # fmt: skip
    sculpt = context.sculpt.record

    def work(first: int, last: int) -> None:
        out = made.state, made.low, made.b, made.normal
        _look(first, last, view.numbers, view.side, view.seed, scenes.record, sculpt, out)

    in_batches(size, work, cancelled=context.warm.stopped)
    return made


def _judged(context: Context, pixels: _Pixels, dressed: Worn) -> tuple[F32, I64]:
    """The angle (or state) of every pixel with some pictures on the low, and its texel, -1 for none."""
    angle, texel = np.empty(len(pixels.state), np.float32), np.empty(len(pixels.state), np.int64)

    def work(first: int, last: int) -> None:
        _judge(first, last, (pixels.state, pixels.low, pixels.b, pixels.normal), dressed.record, angle, texel)

    in_batches(len(angle), work, cancelled=context.warm.stopped)
    return angle, texel


def _figures(counts: I64, bins: I64, total: float) -> AsSeen | None:
    both, outline, inside = (int(n) for n in counts)
    if not both:
        return None
    over = [float(bins[int(limit * BINS / 180) :].sum() / both) for limit in (5, 15, 30)]
    p95 = (int(np.searchsorted(np.cumsum(bins), 0.95 * both)) + 0.5) * 180 / BINS
    either = both + outline + inside
    return AsSeen(
        mean=total / both, p95=p95, over_5=over[0], over_15=over[1], over_30=over[2], outline=outline / either,
        inside=inside / either, pixels=both,
    )  # fmt: skip


def directions(count: int) -> F64:
    """Unit vectors (count, 3) of the spherical Fibonacci lattice: R. Swinbank, R. J. Purser, QJRMS 132, 2006."""
    n = np.arange(count) + 0.5
    z, turn = 1 - 2 * n / count, np.pi * (1 + 5**0.5) * n
    flat = np.sqrt(1 - z * z)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), z], axis=1)


def _views(context: Context, scenes: _Scenes, texels: int, proof: bool) -> list[_View]:
    """Pictures that frame low and sculpt together, with about two pixels a texel in all."""
    rows = scenes.rows
    low = context.assembly.low.positions[context.assembly.low.triangles[rows]].reshape(-1, 3)
    boxes = [np.stack([low.min(axis=0), low.max(axis=0)])]
    together = len(rows) == len(context.assembly.low.triangles)
    if together:
        boxes.append(np.stack(box_of(context)))
    lowest, highest = np.min(boxes, axis=(0, 1)).astype(np.float64), np.max(boxes, axis=(0, 1)).astype(np.float64)
    count, most = (PROOF_VIEWS, PROOF_MOST) if proof else (VIEWS, MOST)
    side = int(np.clip(np.sqrt(2 * texels / count), LEAST if together else LEAST_ALONE, most))
    centre, corner = (lowest + highest) / 2, (highest - lowest) / 2
    deep, views = 1.01 * float(np.linalg.norm(corner)), []
    for seed, toward in enumerate(directions(count)):
        right = np.cross(toward, [0.0, 0.0, 1.0] if abs(toward[2]) < 0.9 else [1.0, 0.0, 0.0])
        right /= np.linalg.norm(right)
        up = np.cross(right, toward)
        half = 1.01 * max(float(np.abs(right) @ corner), float(np.abs(up) @ corner))
        views.append(_View(np.concatenate([centre, right, up, toward, [half, deep]]), side, seed))
    return views


@numba.njit(cache=True, nogil=True)
def _add(angle, texel, sums, count):  # type: ignore[no-untyped-def]
    """Add angles (N,) to the sums and counts of their texels."""
    for i in range(len(angle)):
        if angle[i] >= 0 and texel[i] >= 0:
            sums[texel[i]] += angle[i]
            count[texel[i]] += 1


@numba.njit(cache=True, nogil=True)
def _look(first, last, view, side, seed, scenes, sculpt, out):  # type: ignore[no-untyped-def]
    """What pixels `first` to `last` of a view strike, into the arrays of `_Pixels`; scenes and sculpt are records."""
    state, low_triangle, b, normal = out
    low, high = block(scenes.low, (1, 2), np.uint64), block(scenes.sculpt, (1, 2), np.uint64)
    rows, half, deep = block(scenes.rows, scenes.rows_count, np.int32), view[12], view[13]
    dx, dy, dz = -view[9], -view[10], -view[11]
    for i in range(first, last):
        u = hashed(np.uint32(2 * i) ^ hashed(np.uint32(seed))) / 4294967296.0
        v = hashed(np.uint32(2 * i + 1) ^ hashed(np.uint32(seed))) / 4294967296.0
        x, y = ((i % side + u) / side * 2 - 1) * half, (1 - (i // side + v) / side * 2) * half
        ox = view[0] + x * view[3] + y * view[6] + deep * view[9]
        oy = view[1] + x * view[4] + y * view[7] + deep * view[10]
        oz = view[2] + x * view[5] + y * view[8] + deep * view[11]
        near, b1, b2, t = hit_along(low[0, 0], low[0, 1], ox, oy, oz, dx, dy, dz, 2 * deep)
        far, s1, s2, hit = hit_along(high[0, 0], high[0, 1], ox, oy, oz, dx, dy, dz, 2 * deep)
        state[i] = NEITHER if hit < 0 and t < 0 else OUTLINE
        if hit >= 0 and _from_behind(hit + scenes.first, dx, dy, dz, sculpt):
            state[i] = INSIDE
        elif hit >= 0 and t >= 0 and abs(far - near) <= scenes.apart:
            state[i], low_triangle[i], b[i, 0], b[i, 1] = 0.0, rows[t], b1, b2
            nx, ny, nz = shading_normal(hit + scenes.first, np.float64(s1), np.float64(s2), sculpt)
            normal[i, 0], normal[i, 1], normal[i, 2] = nx, ny, nz


@numba.njit(cache=True, nogil=True)
def _judge(first, last, pixels, worn, angle, texel):  # type: ignore[no-untyped-def]
    """The angles of pixels `first` to `last`, and their texels; a place off all sheets counts as 90 degrees."""
    state, low_triangle, b, normal = pixels
    for i in range(first, last):
        angle[i], texel[i] = state[i], -1
        if state[i] == 0:
            given, texel[i] = normal_of_low(low_triangle[i], np.float64(b[i, 0]), np.float64(b[i, 1]), worn)
            angle[i] = 90.0
            if texel[i] >= 0:
                nx, ny, nz = np.float64(normal[i, 0]), np.float64(normal[i, 1]), np.float64(normal[i, 2])
                angle[i] = _between(given, (nx, ny, nz))


@numba.njit(cache=True, nogil=True)
def _between(a, b):  # type: ignore[no-untyped-def]
    """Degrees between two vectors."""
    cx, cy, cz = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
    sine = np.sqrt(cx * cx + cy * cy + cz * cz)
    return np.degrees(np.arctan2(sine, a[0] * b[0] + a[1] * b[1] + a[2] * b[2]))


@numba.njit(cache=True, nogil=True)
def _from_behind(hit, dx, dy, dz, sculpt):  # type: ignore[no-untyped-def]
    """Whether a ray sees triangle `hit` of the sculpt from behind."""
    positions = block(sculpt.positions, (sculpt.positions_count, 3), np.float32)
    row = block(sculpt.triangles, (sculpt.triangles_count, 3), np.int32)[hit]
    gx, gy, gz = face_normal(positions[row[0]], positions[row[1]], positions[row[2]])
    return dx * gx + dy * gy + dz * gz > 0
