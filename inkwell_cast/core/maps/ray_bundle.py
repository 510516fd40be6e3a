"""Rays of a texel that look around from what its samples struck, sixteen to a packet.

They leave in turn from one hit after the other, so that however few are traced all hits have their share, and any
sixteen that follow one another are well spread. After each packet, or each few where rays go one by one, the error of
their mean is estimated; once it is below the noise that is wanted, the rest is left out.
"""

import numpy as np

from ..base.array_types import U64
from ..base.borrowed_arrays import block
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, aligned, record_kind, view
from ..base.sampling_sequence import cosine_point, frame_about, square_point
from ..rays.embree import hit_along
from ..rays.packet import ALL_KINDS, ORIGIN, REACH, ROWS, WAY, WIDTH, strike_any, was_blocked

MOST_HITS = 64  # samples of a texel
ONE_BY_ONE = 4  # rays between two looks at their error, where they gain nothing as a packet
UNEVEN = 1.25  # errors over those of the estimate, on three demo pieces with 16 to 128 rays

AROUND = record_kind(
    {"tracers": (np.uint64, 2)},
    rays=np.int64,
    bits=np.int64,
    falloff=np.int64,
    far=np.float64,
    widest=np.float64,
    lift=np.float64,
    noise=np.float64,
)

# The packet, and what the library is told of it; rays in it. The hits of the texel: place (3, scene units), two vectors
# across the direction that rays leave about, that, and the normal of the face that they leave (3 each, unit). Of the
# rays traced: how many, occlusion, its squares, free direction (3).
BUNDLE = np.dtype(
    [
        ("numbers", "f4", (ROWS, WIDTH)),
        ("words", "i4", 2 * WIDTH),
        ("count", "i8"),
        ("hits", "i8"),
        ("places", "f8", (MOST_HITS, 15)),
        ("seen", "i8"),
        ("shade", "f8"),
        ("squares", "f8"),
        ("free", "f8", 3),
    ]
)


def empty_bundle() -> Record:
    """Room for the rays of one thread's texels."""
    bundle = aligned(BUNDLE)
    bundle["words"][WIDTH + 1] = ALL_KINDS
    return bundle


@kernel
def add_hit(place: Vector, normal: Vector, face: Vector, bundle: Record) -> None:
    """One more hit of a texel, from which rays leave about a unit normal, none of them into its face."""
    k = bundle.hits
    bundle.hits, own = k + 1, bundle.places[k]
    own[3], own[4], own[5], own[6], own[7], own[8] = frame_about(normal[0], normal[1], normal[2])
    for c in range(3):
        own[c], own[9 + c], own[12 + c] = place[c], normal[c], face[c]


@kernel(error_model="numpy")
def look(first: int, seed: int, pair: int, around: Record, bundle: Record) -> None:
    """Trace the rays of a texel from its hits, of which it then has none; `seen`, `shade`, `free` say what they saw.

    first and seed are those of its points; around is a record of the kind `AROUND`.
    """
    bundle.seen, bundle.shade, bundle.squares, bundle.count, hits = 0, 0.0, 0.0, 0, bundle.hits
    bundle.free[0] = bundle.free[1] = bundle.free[2] = 0.0
    bundle.hits = 0
    tracer = view(around, "tracers")[pair]
    if hits == 0:
        return
    turn, turns = -1, WIDTH if around.falloff == 0 else ONE_BY_ONE
    for r in range((around.rays + hits - 1) // hits * hits):
        turn = turn + 1 if turn + 1 < hits else 0
        own = bundle.places[turn]
        u, v = square_point(first + r, seed)
        x, y, z = cosine_point(u, v, around.widest)
        dx, dy = x * own[3] + y * own[6] + z * own[9], x * own[4] + y * own[7] + z * own[10]
        dz = x * own[5] + y * own[8] + z * own[11]
        if dx * own[12] + dy * own[13] + dz * own[14] <= 0:
            continue
        k, numbers = bundle.count, bundle.numbers
        numbers[ORIGIN, k], numbers[ORIGIN + 1, k], numbers[ORIGIN + 2, k] = own[0], own[1], own[2]
        numbers[WAY, k], numbers[WAY + 1, k], numbers[WAY + 2, k] = dx, dy, dz
        bundle.count = k + 1
        if k + 1 == turns:
            _trace(tracer, around, bundle)
            if around.noise > 0 and bundle.seen >= WIDTH and _error(bundle) <= around.noise:
                return
    if bundle.count:
        _trace(tracer, around, bundle)


@kernel(error_model="numpy")
def _error(bundle: Record) -> float:
    """An estimate of the error of the mean of the rays so far.

    Of well-spread points on something with edges it falls with the power -3/4 of their number: A. Owen, "Scrambled net
    variance for integrals of smooth functions", Annals of Statistics 25(4), 1997, and the references there.
    """
    share, square = (bundle.shade + 0.5) / (bundle.seen + 1), (bundle.squares + 0.5) / (bundle.seen + 1)
    root = np.sqrt(np.sqrt(np.float64(bundle.seen)))
    return UNEVEN * np.sqrt(max(square - share * share, 0.0)) / (root * root * root)


@kernel(error_model="numpy")
def _trace(tracer: U64, around: Record, bundle: Record) -> None:
    """Trace the rays of the packet, and count what they see."""
    count, falloff, far, numbers = bundle.count, around.falloff, around.far, bundle.numbers
    rays = numbers, block(numbers.ctypes.data, (ROWS, WIDTH), np.int32), bundle.words
    bundle.count = 0
    if falloff == 0:
        for k in range(WIDTH):
            bundle.words[k] = -1 if k < count else 0
            numbers[REACH, k] = far
        strike_any(tracer[0], tracer[1], rays)
    shade = squares = x = y = z = 0.0
    for k in range(count):
        free = 1.0
        if falloff == 0:
            free = 0.0 if was_blocked(k, rays) else 1.0
        else:  # what is struck first is found sooner one by one: rays all over a hemisphere part after few nodes
            ox, oy, oz = numbers[ORIGIN, k], numbers[ORIGIN + 1, k], numbers[ORIGIN + 2, k]
            dx, dy, dz = numbers[WAY, k], numbers[WAY + 1, k], numbers[WAY + 2, k]
            length, _, _, hit = hit_along(tracer[0], tracer[1], ox, oy, oz, dx, dy, dz, far)
            if hit >= 0:
                free = length / far
                if falloff == 2:
                    free *= 2 - free  # 1 - (1 - t)^2
        shade += 1 - free
        squares += (1 - free) * (1 - free)
        x += free * numbers[WAY, k]
        y += free * numbers[WAY + 1, k]
        z += free * numbers[WAY + 2, k]
    bundle.seen += count
    bundle.shade += shade
    bundle.squares += squares
    bundle.free[0] += x
    bundle.free[1] += y
    bundle.free[2] += z
