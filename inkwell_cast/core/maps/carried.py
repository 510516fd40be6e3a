"""What a sculpt's materials carry over: the mean over a texel's hits of colours, or of what textures show there."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, F64, I32, U8, AnyArray
from ..base.color_space import to_linear
from ..base.errors import InputProblem
from ..base.kernel_types import Vector
from ..base.kernels import kernel
from ..base.progress import Cancel, ShareDone
from ..base.records import Record, record_kind, record_of, view
from ..cast.context import Context
from ..cast.hits import Hits
from ..mesh.mesh import NO_VALUE, Mesh
from ..mesh.textures import Texture
from ..uv.rasterise import tile_box
from .hits_of_tile import mean_of_corners, over_tiles, samples_of, tiles_of, triangles_of, weights_at

WORN = record_kind(
    {
        "values": (np.float32, 3),
        "corners": (np.int32, 3),
        "materials": np.int32,
        "table": (np.float64, 12),
        "pixels": (np.uint8, 3),
        "uv": (np.float32, 2),
        "rows": (np.int32, 3),
        "light": np.float32,
    }
)


@dataclass(frozen=True, slots=True)
class Textures:
    """Those of a sculpt's materials.

    table (M, 12) float64, a row a material: the first pixel, width and height (0 for none), the six numbers of
    `Texture.turned`, its tint; pixels (N, 3) uint8; uv (K, 2) float32, v from the bottom, and rows (T, 3) int32 of it.
    """

    table: F64
    pixels: U8
    uv: F32
    rows: I32


@dataclass(frozen=True, slots=True)
class CarriedColors:
    """Linear values (N, 3) and the row of each corner (T, 3) for what wears no texture; materials (T,) of triangles."""

    values: F32
    corners: I32
    materials: I32
    textures: Textures | None

    @property
    def brightest(self) -> float:
        """The largest value that any of them has."""
        tints = self.textures.table[:, 9:].max(initial=0) if self.textures else 0.0
        return float(max(self.values.max(initial=0), tints))

    @property
    def record(self) -> Record:
        """As kernels take it, of the kind `WORN`."""
        worn = self.textures or Textures(
            np.zeros((int(self.materials.max(initial=0)) + 1, 12)),
            np.zeros((1, 3), np.uint8),
            np.zeros((1, 2), np.float32),
            np.full((len(self.corners), 3), NO_VALUE, np.int32),
        )
        return record_of(
            WORN,
            values=self.values,
            corners=self.corners,
            materials=self.materials,
            table=worn.table,
            pixels=worn.pixels,
            uv=worn.uv,
            rows=worn.rows,
            light=to_linear(np.arange(256, dtype=np.float32) / np.float32(255)),
        )


def by_material(mesh: Mesh, colors: F32, pictures: tuple[Texture | None, ...]) -> CarriedColors:
    """What materials carry: colours (M, 3), or the pictures of those that have one."""
    rows = np.repeat(mesh.materials[:, None], 3, axis=1).astype(np.int32)
    return CarriedColors(np.ascontiguousarray(colors, np.float32), rows, mesh.materials, _worn(mesh, pictures))


def colors_of(mesh: Mesh) -> CarriedColors:
    """The colours of a mesh: its textures, else those of its vertices, else those of its materials."""
    plain = by_material(mesh, mesh.material_colors, mesh.textures)
    if mesh.colors is None:
        return plain
    count = len(mesh.colors.values)
    rows = np.where(mesh.colors.corners < 0, plain.corners + count, mesh.colors.corners).astype(np.int32)
    values = np.concatenate([mesh.colors.values[:, :3], mesh.material_colors]).astype(np.float32)
    return CarriedColors(values, rows, mesh.materials, plain.textures)


def _worn(mesh: Mesh, pictures_of: tuple[Texture | None, ...]) -> Textures | None:
    table, pictures, first = np.zeros((len(pictures_of), 12)), [np.zeros((1, 3), np.uint8)], 1
    channel = np.zeros(len(pictures_of), np.int64)
    for n, texture in enumerate(pictures_of):
        if texture is None:
            continue
        if texture.channel >= len(mesh.uvs):
            raise InputProblem(
                mesh.name,
                f"Its texture {texture.name} is laid out by UV channel {texture.channel}, which it has not.",
                "Export the sculpt with its UVs.",
            )
        pixels = texture.pixels()
        table[n] = first, pixels.shape[1], pixels.shape[0], *texture.turned, *texture.tint
        pictures.append(pixels.reshape(-1, 3))
        first += len(pictures[-1])
        channel[n] = texture.channel
    if first == 1:
        return None
    starts = np.cumsum([0, *[len(uv.values) for uv in mesh.uvs]])
    corners = np.full((len(mesh.triangles), 3), NO_VALUE, np.int32)
    for c, uv in enumerate(mesh.uvs):
        here = channel[mesh.materials] == c
        corners[here] = np.where(uv.corners[here] < 0, NO_VALUE, uv.corners[here] + starts[c])
    return Textures(table, np.concatenate(pictures), np.concatenate([uv.values for uv in mesh.uvs]), corners)


def gather_carried(
    context: Context, hits: Hits, ready: CarriedColors, out: AnyArray, progress: ShareDone, cancelled: Cancel
) -> None:
    """The mean over each texel's hits, into out (H, W, 3)."""
    if ready.textures is None:
        over_tiles(hits, context.low.grid, mean_of_corners, (ready.values, ready.corners, out), progress, cancelled)
        return
    over_tiles(hits, context.low.grid, _mean_of_textures, (ready.record, out), progress, cancelled)


@kernel
def _mean_of_textures(first: int, last: int, hits: Record, grid: Record, worn: Record, out: F32) -> None:
    """The mean colour (H, W, 3) of a texel's hits; hits, grid and worn are records."""
    tiles, triangle, side, color = tiles_of(hits), triangles_of(hits), grid.side, np.zeros(3)
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                count = 0
                for j in range(side):
                    for i in range(side):
                        n = begin + j * stride + i
                        if triangle[n] < 0:
                            continue
                        count += 1
                        color_at(triangle[n], weights_at(n, hits), worn, color)
                        for c in range(3):
                            out[y0 + y, x0 + x, c] += np.float32(color[c])
                if count:
                    for c in range(3):
                        out[y0 + y, x0 + x, c] /= count


@kernel
def color_at(t: int, b: Vector, worn: Record, color: F64) -> None:
    """Write the linear colour at barycentrics b of triangle t into found (3,): its texture's, else that of corners."""
    b0, b1, b2 = b
    picture = view(worn, "table")[view(worn, "materials")[t]]
    row = view(worn, "rows")[t]
    if picture[1] > 0 and row[0] >= 0 and row[1] >= 0 and row[2] >= 0:
        places = view(worn, "uv")
        p, q, r = places[row[0]], places[row[1]], places[row[2]]
        pixels, light = (
            view(worn, "pixels"),
            view(worn, "light"),
        )
        u, v = b0 * p[0] + b1 * q[0] + b2 * r[0], 1 - (b0 * p[1] + b1 * q[1] + b2 * r[1])
        _look_up(u, v, picture, pixels, light, color)
        return
    values = view(worn, "values")
    corner = view(worn, "corners")[t]
    for c in range(3):
        color[c] = b0 * values[corner[0], c] + b1 * values[corner[1], c] + b2 * values[corner[2], c]


@kernel
def _look_up(u: float, v: float, picture: F64, pixels: U8, light: F32, color: F64) -> None:
    """The light of a texture at u and v from its top left, between its four nearest pixels."""
    first, width, height = np.int64(picture[0]), np.int64(picture[1]), np.int64(picture[2])
    x = (picture[3] * u + picture[4] * v + picture[5]) * width - 0.5
    y = (picture[6] * u + picture[7] * v + picture[8]) * height - 0.5
    left, top = np.int64(np.floor(x)), np.int64(np.floor(y))
    x, y = x - left, y - top
    color[:] = 0
    for j in range(2):
        for i in range(2):
            n = first + ((top + j) % height) * width + (left + i) % width
            weight = (x if i else 1 - x) * (y if j else 1 - y)
            for c in range(3):
                color[c] += weight * light[pixels[n, c]] * picture[9 + c]
