"""Pictures from all around a piece: what a ray per pixel strikes of the low and of the sculpt.

For each of N directions of a spherical Fibonacci lattice an orthographic picture frames low and sculpt together, its
rays jittered by a hash. On the low the nearest front face counts. On the sculpt the nearest surface counts; a back face
that is met first is *inside seen*. Where only one is hit, or both but so far apart that they are not the same place, a
pixel is *outline*. None of it depends on maps or reach, so it is kept for the next bake of the same meshes.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..base.array_types import F32, F64, I32, U8
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, record_kind, record_of, view
from ..base.sampling_sequence import hashed
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.occluders import occluders_on
from ..cast.shading_normal import shading_normal
from ..maps.position import box_of
from ..mesh.normals import face_normal
from ..piece.scene_cache import Slot
from ..rays.embree import Scene, Vertices, tracers_of
from ..rays.packet import WIDTH, hit_of, packet, trace

VIEWS, PROOF_VIEWS = 32, 16
LEAST, MOST = 128, 256  # pixels on a side of a picture
LEAST_ALONE = 48  # of a pair alone, which has few texels where there are many pairs
A_TEXEL, A_TEXEL_ALONE = 2, 1  # pixels
BLOCK = 4  # pixels on a side of what one packet of rays takes
AT_ONCE = 1 << 20  # pixels held whole
APART = 0.03  # of the low's diagonal: surfaces farther apart along a ray are two places, not one
NEITHER, BOTH, OUTLINE, INSIDE = 0, 1, 2, 3
SCENES = record_kind(
    {"low": (np.uint64, 2), "rows": np.int32, "sculpt": (np.uint64, 2)}, first=np.int64, apart=np.float64
)


@dataclass(frozen=True, slots=True)
class Pixels:
    """Pixels that hit both, in the order of the pictures, and how many saw an outline or an inside.

    low (N,) int32 is the triangle of the low, b (N, 2) float32 its second and third barycentric, normal (N, 3) float32
    the sculpt's unit normal. bare and bare_b are the low's in the other pixels that hit it: no front of the sculpt is
    at their place. extent is how much of a plane across the camera a pixel takes, square scene units.
    """

    low: I32
    b: F32
    normal: F32
    outline: int
    inside: int
    bare: I32
    bare_b: F32
    extent: float


@dataclass(frozen=True, slots=True)
class Around:
    """The pixels of the whole piece, and of each pair alone; those of the whole again where there is only one."""

    whole: Pixels
    pairs: list[Pixels]

    def each(self) -> list[tuple[Pixels, float]]:
        """The sets of pixels, those of the whole first, and what a pixel of each weighs: what it takes of the surface.

        So a small part that is seen alone in many pixels weighs no more than a large one.
        """
        sets = {id(pixels): pixels for pixels in (self.whole, *self.pairs)}
        return [(pixels, pixels.extent / self.whole.extent) for pixels in sets.values()]


@dataclass(frozen=True, slots=True)
class _Scenes:
    """What rays strike: rows (K,) int32 are the triangles of the low; record is of the kind `SCENES`.

    together says whether it is the whole piece.
    """

    rows: I32
    record: Record
    together: bool


KEPT = Slot[Around]()


def pictures_around(contexts: list[Context], proof: bool = False) -> Around:
    """Look at a piece, one context a sheet, from all around; `proof` from fewer directions at smaller pictures.

    There are about two pixels a covered texel, one where a pair is alone, up to some two million. Raises Cancelled
    where the work is no longer wanted.
    """
    context = contexts[0]
    pairs = len(context.assembly.paired.pairs)
    texels = np.zeros(pairs, np.int64)
    for each in contexts if pairs > 1 else []:
        pair = context.assembly.low_pair[each.low.triangles[each.cast.low_triangle[each.cast.covered > 0]]]
        texels += np.bincount(pair, minlength=pairs)
    texels = texels if pairs > 1 else np.array([sum(each.cast.texels for each in contexts)])
    key = f"{context.assembly.shape()} {context.sculpt.serial} {texels.tolist()} {proof}"
    return context.warm.once(KEPT, key, lambda: _around(context, texels.tolist(), proof))


def _around(context: Context, texels: list[int], proof: bool) -> Around:
    whole = _pixels(context, _scenes(context, None), sum(texels), proof)
    if len(texels) < 2:
        return Around(whole, [whole])
    return Around(whole, [_pixels(context, _scenes(context, n), count, proof) for n, count in enumerate(texels)])


def directions(count: int) -> F64:
    """Unit vectors (count, 3) of the spherical Fibonacci lattice: R. Swinbank, R. J. Purser, QJRMS 132, 2006."""
    n = np.arange(count) + 0.5
    z, turn = 1 - 2 * n / count, np.pi * (1 + 5**0.5) * n
    flat = np.sqrt(1 - z * z)
    return np.stack([flat * np.cos(turn), flat * np.sin(turn), z], axis=1)


def _scenes(context: Context, pair: int | None) -> _Scenes:
    """What rays strike: the whole piece, or one pair alone."""
    low, sculpt, stopped = context.assembly.low, context.sculpt, context.warm.stopped_alone
    judged = context.assembly.judged
    if pair is None:
        rows = np.flatnonzero(judged).astype(np.int32)
        tracers, first = occluders_on(context, "everything").tracers[:1], 0
    else:
        rows = np.flatnonzero(judged & (context.assembly.low_pair == pair)).astype(np.int32)
        tracers, first = occluders_on(context, "all").tracers[pair : pair + 1], int(sculpt.first[pair])
    scene = Scene(Vertices(low.positions), low.triangles[rows], cancelled=stopped)
    record = record_of(
        SCENES,
        low=tracers_of([scene]),
        rows=rows,
        sculpt=tracers,
        first=first,
        apart=APART * low.diagonal,
    )
    return _Scenes(rows, record, pair is None or len(context.assembly.paired.pairs) < 2)


def _views(context: Context, scenes: _Scenes, count: int) -> F64:
    """Rows of `framed` from all around, for the low and the sculpt of some scenes."""
    low = context.assembly.low.positions[context.assembly.low.triangles[scenes.rows]].reshape(-1, 3)
    boxes = [np.stack([low.min(axis=0), low.max(axis=0)])]
    if scenes.together:
        boxes.append(np.stack(box_of(context.sculpt, context.warm)))
    return framed(boxes, directions(count), (0.0, 0.0, 1.0))


def framed(boxes: list[F64] | list[F32], ways: F64, upward: Vector) -> F64:
    """A row (V, 14) for each picture, framing boxes (2, 3) of lowest and highest corners together.

    Its centre, right, up, and the way toward the viewer (3 each), half its width, and half its depth; scene units.
    ways (V, 3) are unit vectors toward the viewer; `upward` is up in the pictures, unless it is nearly their way.
    """
    lowest, highest = np.min(boxes, axis=(0, 1)).astype(np.float64), np.max(boxes, axis=(0, 1)).astype(np.float64)
    centre, corner = (lowest + highest) / 2, (highest - lowest) / 2
    deep, views = 1.01 * float(np.linalg.norm(corner)), np.empty((len(ways), 14))
    for camera, toward in zip(views, ways, strict=True):
        right = np.cross(upward if abs(toward @ upward) < 0.9 else [1.0, 0.0, 0.0], toward)
        right /= np.linalg.norm(right)
        up = np.cross(toward, right)
        half = 1.01 * max(float(np.abs(right) @ corner), float(np.abs(up) @ corner))
        camera[:] = np.concatenate([centre, right, up, toward, [half, deep]])
    return views


def _pixels(context: Context, scenes: _Scenes, texels: int, proof: bool) -> Pixels:
    """Look from all directions, some pictures at once."""
    count = PROOF_VIEWS if proof else VIEWS
    least, each = (LEAST, A_TEXEL) if scenes.together else (LEAST_ALONE, A_TEXEL_ALONE)
    side = int(np.clip(np.sqrt(each * texels / count), least, MOST))
    side = -(-side // BLOCK) * BLOCK
    views, each = _views(context, scenes, count), max(1, AT_ONCE // side**2)
    parts, states = [], np.zeros(4, np.int64)
    for first in range(0, count, each):
        state, low, b, normal = _look_from(context, scenes, views[first : first + each], side, first)
        both, bare = state == BOTH, (state != BOTH) & (low >= 0)
        states += np.bincount(state, minlength=4)
        parts.append((low[both], b[both], normal[both], low[bare], b[bare]))
    low, b, normal, bare_low, bare_b = (np.concatenate(values) for values in zip(*parts, strict=True))
    extent = float(((2 * views[:, 12] / side) ** 2).mean())
    return Pixels(low, b, normal, int(states[OUTLINE]), int(states[INSIDE]), bare_low, bare_b, extent)


def _look_from(context: Context, scenes: _Scenes, views: F64, side: int, seed: int) -> tuple[U8, I32, F32, F32]:
    """What the pixels (N,) of some pictures strike: NEITHER to INSIDE, triangle and place of the low, -1 for none.

    And of those of BOTH the sculpt's normal.
    """
    size = len(views) * side * side
    state, low = np.empty(size, np.uint8), np.empty(size, np.int32)
    b, normal = np.empty((size, 2), np.float32), np.empty((size, 3), np.float32)
    sculpt = context.sculpt.record

    def work(first: int, last: int) -> None:
        _look(first, last, views, side, seed, scenes.record, sculpt, (state, low, b, normal))

    in_batches(size // WIDTH, work, cancelled=context.warm.stopped)
    return state, low, b, normal


@kernel
def _look(
    first: int,
    last: int,
    views: F64,
    side: int,
    seed: int,
    scenes: Record,
    sculpt: Record,
    out: tuple[U8, I32, F32, F32],
) -> None:
    """What the pixels of blocks `first` to `last` strike, into the arrays of `_look_from`; scenes, sculpt are records.

    Blocks count on from picture to picture of `views` (V, 14), the first of which has the number `seed`.
    """
    low, high = view(scenes, "low"), view(scenes, "sculpt")
    near_rays, far_rays, origins, each = packet(), packet(), np.empty((3, WIDTH), np.float32), (side // BLOCK) ** 2
    for item in range(first, last):
        camera = views[item // each]
        aim(item % each, camera, side, hashed(np.uint32(seed + item // each)), 1.0, origins)
        way = (-camera[9], -camera[10], -camera[11])
        trace(low[0, 0], low[0, 1], near_rays, origins, way, 2 * camera[13])
        trace(high[0, 0], high[0, 1], far_rays, origins, way, 2 * camera[13])
        for k in range(WIDTH):
            _keep(item * WIDTH + k, hit_of(k, near_rays), hit_of(k, far_rays), way, scenes, sculpt, out)


@kernel(inline="always")
def aim(place: Any, camera: Any, side: Any, turn: Any, spread: Any, origins: Any) -> Any:
    """Where the rays (3, WIDTH) of block `place` of a picture start: `spread` of a pixel about the pixels' centres.

    `view` is a row of `framed`, `turn` what the hash of a pixel is turned by.
    """
    across = side // BLOCK
    for k in range(WIDTH):
        column, row = place % across * BLOCK + k % BLOCK, place // across * BLOCK + k // BLOCK
        i = row * side + column
        right = hashed(np.uint32(2 * i) ^ turn) / 4294967296.0 - 0.5
        down = hashed(np.uint32(2 * i + 1) ^ turn) / 4294967296.0 - 0.5
        x = ((column + 0.5 + spread * right) / side * 2 - 1) * camera[12]
        y = (1 - (row + 0.5 + spread * down) / side * 2) * camera[12]
        for c in range(3):
            origins[c, k] = camera[c] + x * camera[3 + c] + y * camera[6 + c] + camera[13] * camera[9 + c]


@kernel(inline="always")
def _keep(i: int, on_low: Any, on_sculpt: Any, way: Any, scenes: Record, sculpt: Record, out: Any) -> None:
    """What pixel i sees, from its hits as of `hit_of`."""
    state, low_triangle, b, normal = out
    (near, b1, b2, t), (far, s1, s2, hit) = on_low, on_sculpt
    state[i], low_triangle[i] = NEITHER if hit < 0 and t < 0 else OUTLINE, -1
    if t >= 0:
        low_triangle[i], b[i, 0], b[i, 1] = view(scenes, "rows")[t], b1, b2
    if hit >= 0 and _from_behind(hit + scenes.first, way, sculpt):
        state[i] = INSIDE
    elif hit >= 0 and t >= 0 and abs(far - near) <= scenes.apart:
        state[i] = BOTH
        nx, ny, nz = shading_normal(hit + scenes.first, np.float64(s1), np.float64(s2), sculpt)
        normal[i, 0], normal[i, 1], normal[i, 2] = nx, ny, nz


@kernel
def _from_behind(hit: int, way: Vector, sculpt: Record) -> bool:
    """Whether a ray sees triangle `hit` of the sculpt from behind."""
    positions = view(sculpt, "positions")
    row = view(sculpt, "triangles")[hit]
    gx, gy, gz = face_normal(positions[row[0]], positions[row[1]], positions[row[2]])
    return way[0] * gx + way[1] * gy + way[2] * gz > 0
