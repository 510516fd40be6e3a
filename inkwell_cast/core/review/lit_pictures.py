"""Lit pictures of a piece from four sides, by the product's own rays: the sculpt, the low with its map, and its heat.

Orthographic, y up, a quarter turn apart, under lights that stand with the viewer: so two of them differ in nothing but
the surface. A strip holds the four beside each other, on nothing.
"""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, U8, AnyArray
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.on_demand import library
from ..base.records import Record, record_kind, record_of, view
from ..base.threads import in_batches
from ..cast.context import Context
from ..cast.shading_normal import shading_normal
from ..maps.position import box_of
from ..piece.occluders import kept_occluders
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..rays.embree import Scene, Vertices, tracers_of
from ..rays.packet import WIDTH, hit_of, packet, trace
from .likeness import heat, stored
from .pictures_around import BLOCK, aim, framed
from .worn_pictures import Pictures, normal_of_low, worn

cv2 = library("cv2")
SIDE, SIDES = 256, 4  # pixels of a picture, and how many stand beside each other
FINE = 2  # rays a pixel along each side
ABOVE = 0.42  # how far over the horizon the viewer stands, of the way to the piece
FIRST = -26.0  # degrees about the y axis from z, where the first picture looks from
CLAY = np.array([218.0, 211.0, 200.0], np.float32)
LIGHTS = np.array(  # right, up, toward the viewer; strength
    [[-0.50, 0.62, 0.60, 0.86], [0.80, 0.10, 0.59, 0.24], [0.10, -0.70, 0.30, 0.06]]
)
BRIGHTEST = np.float32(1.1)
SAMPLED = 200_000  # corners of the sculpt that the pictures are framed by
MARGIN = 1.06
AROUND = 0.18  # light from everywhere
NEAR = 0.04  # of half a picture: how near to a place a ray must strike for it to be seen
FLAT = np.array([128, 128, 255], np.uint8)
TRACED = record_kind({"tracers": (np.uint64, 2)})


@dataclass(frozen=True, slots=True)
class _Struck:
    """Triangles (N,) int32, -1 for none, and their second and third barycentrics (N, 2) float32, in rows of pixels."""

    triangle: I32
    b: F32


SCULPT, LOW, VIEWS = Slot[U8](), Slot[_Struck](), Slot[F64]()


def lit_sculpt(assembly: Assembly, sculpt: Sculpt, warm: Warm) -> U8:
    """A strip (SIDE, 4 SIDE, 4) of the sculpt, which takes no bake. Raises Cancelled."""
    return warm.once(SCULPT, _key(assembly, sculpt), lambda: _sculpt(assembly, sculpt, warm))


def lit_low(contexts: list[Context], pictures: Pictures | None, angles: list[F32] | None = None) -> list[U8]:
    """Strips of the low, one context a sheet, with pictures of normals on, or smooth where there are none.

    And in the colours of angles as seen (H, W), one a sheet, NaN where nothing is, if they are given.
    """
    struck, dressed = _low(contexts), pictures
    if dressed is None:
        dressed = Pictures([np.broadcast_to(FLAT, (*c.cast.covered.shape, 3)) for c in contexts])
    shown, texel = _worn_at(contexts, struck, dressed)
    light = _light(shown, _views(contexts[0].assembly, contexts[0].sculpt, contexts[0].warm))
    strips = [_strip(struck, light, CLAY)]
    if angles is not None:
        colors = [heat(stored(a, c.cast.covered)[..., 0]) for a, c in zip(angles, contexts, strict=True)]
        table = np.concatenate([color.reshape(-1, 3) for color in colors])
        strips.append(_strip(struck, np.float32(0.72) + np.float32(0.28) * light, table[np.maximum(texel, 0)]))
    return strips


def seen_at(contexts: list[Context], balls: F64) -> list[list[Vector]]:
    """Where balls (N, 4) about places of the low, middle and radius in scene units, are seen on its strip.

    For each ball what a mark is drawn at: x from the left, y from the top and radius, pixels of the strip; nothing for
    a picture in which something hides its middle.
    """
    assembly, struck = contexts[0].assembly, _low(contexts)
    views, side = _views(assembly, contexts[0].sculpt, contexts[0].warm), FINE * SIDE
    corners, marks = assembly.low.positions[assembly.low.triangles], list[list[Vector]]()
    for *place, radius in balls:
        marks.append([])
        for n, camera in enumerate(views):
            half, off = camera[12], np.asarray(place) - camera[:3]
            x, y = (1 + off @ camera[3:6] / half) / 2, (1 - off @ camera[6:9] / half) / 2
            row, column = (min(max(int(share * side), 0), side - 1) for share in (y, x))
            pixel = (n * side + row) * side + column
            b1, b2 = struck.b[pixel]
            struck_at = np.array([1 - b1 - b2, b1, b2]) @ corners[struck.triangle[pixel]]
            if struck.triangle[pixel] >= 0 and np.linalg.norm(struck_at - place) <= max(radius, NEAR * half):
                marks[-1].append((round((n + x) * SIDE, 1), round(y * SIDE, 1), round(radius / half * SIDE / 2, 1)))
    return marks


def _key(assembly: Assembly, sculpt: Sculpt) -> str:
    return f"{assembly.digest()} {sculpt.serial}"


def _views(assembly: Assembly, sculpt: Sculpt, warm: Warm) -> F64:
    return warm.once(VIEWS, _key(assembly, sculpt), lambda: _framed_closely(assembly, sculpt, warm))


def _framed_closely(assembly: Assembly, sculpt: Sculpt, warm: Warm) -> F64:
    """The four rows of `framed`, as near as low and sculpt allow."""
    turns = np.radians(FIRST + 90 * np.arange(SIDES))
    ways = np.stack([np.sin(turns), np.full(SIDES, ABOVE), np.cos(turns)], axis=1)
    low = assembly.low.positions[np.unique(assembly.low.triangles)]
    boxes = [np.stack([low.min(axis=0), low.max(axis=0)]), np.stack(box_of(sculpt, warm))]
    views = framed(boxes, ways / np.linalg.norm(ways, axis=1)[:, None], (0.0, 1.0, 0.0))
    corners = sculpt.mesh.triangles.reshape(-1)
    points = np.concatenate([low, sculpt.mesh.positions[corners[:: max(1, len(corners) // SAMPLED)]]])
    half = 0.0
    for camera in views:
        flat = (points - camera[:3]) @ camera[3:9].reshape(2, 3).T
        lowest, highest = flat.min(axis=0), flat.max(axis=0)
        camera[:3] += (lowest + highest) / 2 @ camera[3:9].reshape(2, 3)
        half = max(half, float((highest - lowest).max()) / 2)
    views[:, 12] = MARGIN * half
    return views


def _sculpt(assembly: Assembly, sculpt: Sculpt, warm: Warm) -> U8:
    views = _views(assembly, sculpt, warm)
    struck = _strike(kept_occluders(assembly, sculpt, warm, "everything").tracers[:1], views, warm)
    normals, record = np.zeros((len(struck.triangle), 3), np.float32), sculpt.record

    def work(first: int, last: int) -> None:
        _normals_of_sculpt(first, last, views[:, 9:12], struck.triangle, struck.b, record, normals)

    in_batches(len(normals), work, cancelled=warm.stopped)
    return _strip(struck, _light(normals, views), CLAY)


def _low(contexts: list[Context]) -> _Struck:
    assembly, sculpt, warm = contexts[0].assembly, contexts[0].sculpt, contexts[0].warm

    def strike() -> _Struck:
        scene = Scene(Vertices(assembly.low.positions), assembly.low.triangles, cancelled=warm.stopped_alone)
        return _strike(tracers_of([scene]), _views(assembly, sculpt, warm), warm)

    return warm.once(LOW, _key(assembly, sculpt), strike)


def _strike(tracers: F64, views: F64, warm: Warm) -> _Struck:
    """What the rays of the four pictures strike of a scene, FINE on each side of a pixel."""
    side = FINE * SIDE
    triangle, b = np.empty(SIDES * side * side, np.int32), np.empty((SIDES * side * side, 2), np.float32)
    record = record_of(TRACED, tracers=tracers)

    def work(first: int, last: int) -> None:
        _strike_blocks(first, last, views, side, record, triangle, b)

    in_batches(len(triangle) // WIDTH, work, cancelled=warm.stopped)
    return _Struck(_in_rows(triangle, side), _in_rows(b, side))


def _in_rows(values: AnyArray, side: int) -> AnyArray:
    """Values (N, ...) of blocks of pixels in rows of pixels."""
    blocks = values.reshape(SIDES, side // BLOCK, side // BLOCK, BLOCK, BLOCK, *values.shape[1:])
    return np.ascontiguousarray(blocks.swapaxes(2, 3)).reshape(values.shape)


def _worn_at(contexts: list[Context], struck: _Struck, pictures: Pictures) -> tuple[F32, I32]:
    """The normals (N, 3) that a receiver computes at what was struck, and the texels (N,), -1 off all sheets."""
    dressed = worn(contexts, pictures)
    normals, texel = np.zeros((len(struck.triangle), 3), np.float32), np.full(len(struck.triangle), -1, np.int32)

    def work(first: int, last: int) -> None:
        _normals_of_low(first, last, struck.triangle, struck.b, dressed.record, normals, texel)

    in_batches(len(texel), work, cancelled=contexts[0].warm.stopped)
    return normals, texel


def _light(normals: F32, views: F64) -> F32:
    """How bright normals (N, 3) of the four pictures are, (N, 1)."""
    light = np.empty((len(normals), 1), np.float32)
    ways = np.einsum("lk,vkc->vlc", LIGHTS[:, :3], views[:, 3:12].reshape(SIDES, 3, 3))
    strength = LIGHTS[:, 3] / np.linalg.norm(ways, axis=2)
    ways = np.ascontiguousarray(ways * strength[..., None], dtype=np.float32)
    in_batches(len(normals), lambda first, last: _lit(first, last, normals, ways, light))
    return light


def _strip(struck: _Struck, shade: F32, colors: F32) -> U8:
    """The four pictures (SIDE, SIDES SIDE, 4) beside each other; shade (N, 1) times colors (N, 3) or (3,), 0 to 255."""
    rays = np.empty((len(struck.triangle), 4), np.float32)
    np.multiply(np.minimum(shade, BRIGHTEST), colors, out=rays[:, :3])
    rays[:, 3] = 255
    rays[struck.triangle < 0] = 0
    fine = rays.reshape(SIDES * SIDE * FINE, SIDE * FINE, 4)
    pixels: F32 = np.asarray(cv2.resize(fine, (SIDE, SIDES * SIDE), interpolation=cv2.INTER_AREA), np.float32)
    pixels[..., :3] *= 255 / np.maximum(pixels[..., 3:], 1e-9)
    pictures = np.rint(np.clip(pixels, 0, 255)).astype(np.uint8).reshape(SIDES, SIDE, SIDE, 4)
    return np.concatenate(list(pictures), axis=1)


@kernel
def _strike_blocks(first: int, last: int, views: F64, side: int, scene: Record, triangle: I32, b: F32) -> None:
    """First hits of the rays of blocks `first` to `last`, which count on from picture to picture."""
    tracers = view(scene, "tracers")
    rays, origins, each = packet(), np.empty((3, WIDTH), np.float32), (side // BLOCK) ** 2
    for item in range(first, last):
        camera = views[item // each]
        aim(item % each, camera, side, np.uint32(0), 0.0, origins)
        trace(tracers[0, 0], tracers[0, 1], rays, origins, (-camera[9], -camera[10], -camera[11]), 2 * camera[13])
        for k in range(WIDTH):
            _, b1, b2, hit = hit_of(k, rays)
            i = item * WIDTH + k
            triangle[i], b[i, 0], b[i, 1] = hit, b1, b2


@kernel
def _normals_of_sculpt(first: int, last: int, toward: F64, triangle: I32, b: F32, sculpt: Record, normals: F32) -> None:
    """Turned toward the viewer, way `toward` (V, 3): so the inside of an open sculpt is lit too."""
    for i in range(first, last):
        if triangle[i] >= 0:
            nx, ny, nz = shading_normal(triangle[i], np.float64(b[i, 0]), np.float64(b[i, 1]), sculpt)
            way = toward[i // (len(triangle) // len(toward))]
            sign = -1.0 if nx * way[0] + ny * way[1] + nz * way[2] < 0 else 1.0
            normals[i, 0], normals[i, 1], normals[i, 2] = sign * nx, sign * ny, sign * nz


@kernel
def _normals_of_low(first: int, last: int, triangle: I32, b: F32, worn: Record, normals: F32, texel: I32) -> None:
    for i in range(first, last):
        if triangle[i] >= 0:
            (nx, ny, nz), texel[i] = normal_of_low(triangle[i], np.float64(b[i, 0]), np.float64(b[i, 1]), worn)
            size = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-12)
            normals[i, 0], normals[i, 1], normals[i, 2] = nx / size, ny / size, nz / size


@kernel
def _lit(first: int, last: int, normals: F32, ways: F32, light: F32) -> None:
    """Light on normals (N, 3) of the pictures from lights `ways` (V, L, 3), as long as they are strong."""
    for i in range(first, last):
        total = np.float32(AROUND)
        for way in ways[i // (len(normals) // len(ways))]:
            total += max(normals[i, 0] * way[0] + normals[i, 1] * way[1] + normals[i, 2] * way[2], np.float32(0))
        light[i, 0] = total ** np.float32(0.8)
