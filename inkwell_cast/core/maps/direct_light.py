"""Light that comes straight from where it is made: sun, lamps, environment.

`settings` is a record of the kind `light_paths.PATHS`; radiance and irradiance are as there.
"""

import numpy as np

from ..base.array_types import F64, U64
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.records import Record, view
from ..base.sampling_sequence import frame_about, further_point, turn
from ..rays.embree import blocked

ENVIRONMENT = 1 << 10  # the first sample dimension of those that choose bright places of the environment


@kernel(error_model="numpy")
def add_direct_light(
    place: Vector,
    normal: Vector,
    tracer: U64,
    sample: tuple[int, int, int],
    settings: Record,
    throughput: F64,
    irradiance: F64,
) -> None:
    """Direct light of sun, environment and lamps at a place that they see, times throughput, added to irradiance (3,).

    sample is index, seed and sample dimension, as `further_point` takes them.
    """
    (px, py, pz), (nx, ny, nz) = place, normal
    sun = settings.sun
    if sun[4] + sun[5] + sun[6] > 0:
        u, v = further_point(sample[0], sample[1], sample[2])
        ax, ay, az, bx, by, bz = frame_about(sun[0], sun[1], sun[2])
        r, (c, s) = sun[3] * np.sqrt(u), turn(v)
        up = np.sqrt(max(0.0, 1 - r * r))
        sx = up * sun[0] + r * (c * ax + s * bx)
        sy = up * sun[1] + r * (c * ay + s * by)
        sz = up * sun[2] + r * (c * az + s * bz)
        cosine = nx * sx + ny * sy + nz * sz
        if cosine > 0 and not blocked(tracer[0], tracer[1], px, py, pz, sx, sy, sz, 1e30):
            for k in range(3):
                irradiance[k] += throughput[k] * cosine * sun[4 + k]
    if settings.bright_count:
        _add_environment_light(place, normal, tracer, sample, settings, throughput, irradiance)
    lamps = view(settings, "lamps")
    for n in range(len(lamps)):
        lx, ly, lz = lamps[n, 0] - px, lamps[n, 1] - py, lamps[n, 2] - pz
        away = np.sqrt(lx * lx + ly * ly + lz * lz)
        cosine = (nx * lx + ny * ly + nz * lz) / max(away, 1e-30)
        if cosine > 0 and not blocked(tracer[0], tracer[1], px, py, pz, lx / away, ly / away, lz / away, away):
            for k in range(3):
                irradiance[k] += throughput[k] * cosine * lamps[n, 3 + k] / (away * away)


@kernel(error_model="numpy")
def _add_environment_light(
    place: Vector,
    normal: Vector,
    tracer: U64,
    sample: tuple[int, int, int],
    settings: Record,
    throughput: F64,
    irradiance: F64,
) -> None:
    """What one of the panorama's bright places gives, chosen as often as it gives light."""
    bright = view(settings, "bright")
    u, v = further_point(sample[0], sample[1], ENVIRONMENT + sample[2])
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
    c, s = turn(
        bright[low, 1] + within / settings.columns
    )  # the picture's left border is toward +z, its first quarter -x
    r = np.sqrt(max(0.0, 1 - up * up))
    dx, dz = -s * r, c * r
    (px, py, pz), (nx, ny, nz) = place, normal
    cosine = nx * dx + ny * up + nz * dz
    if cosine > 0 and not blocked(tracer[0], tracer[1], px, py, pz, dx, up, dz, 1e30):
        for k in range(3):
            irradiance[k] += throughput[k] * cosine * bright[low, 4 + k]


@kernel(error_model="numpy")
def environment_radiance(dx: float, dy: float, dz: float, settings: Record, radiance: F64) -> None:
    """The radiance of the environment from a unit direction, into radiance (3,)."""
    if not settings.panorama:
        up = 0.5 + 0.5 * dy
        for c in range(3):
            radiance[c] = up * settings.above[c] + (1 - up) * settings.below[c]
        return
    sky = view(settings, "sky")
    x = (0.5 + np.arctan2(dx, -dz) / (2 * np.pi)) * settings.columns - 0.5
    y = np.arccos(min(max(dy, -1.0), 1.0)) / np.pi * settings.rows - 0.5
    left, top = np.int64(np.floor(x)), np.int64(np.floor(y))
    x, y = x - left, y - top
    radiance[:] = 0
    for j in range(2):
        for i in range(2):
            weight = (x if i else 1 - x) * (y if j else 1 - y)
            row, column = min(max(top + j, 0), settings.rows - 1), (left + i) % settings.columns
            for c in range(3):
                radiance[c] += weight * sky[row, column, c]
