"""What the rays of a bake found: hits of every sample, and the cast, texel by texel."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, I32, I64, U8, U16
from ..base.disk_arrays import filled, room
from ..base.records import Record, record_kind, record_of
from ..uv.rasterise import TILE, Grid

MISSED, OFF = -1, -2
MOST_SAMPLES = 80_000_000  # kept: 8 bytes each
AT_ONCE = 20_000_000  # held while a sheet with more is worked through


HITS = record_kind({"tiles": np.int64, "starts": np.int64, "triangle": np.int32, "uv": (np.uint16, 2)})
CAST = record_kind(
    {
        "low_triangle": (np.int32, "rows", "columns"),
        "sample": (np.uint8, "rows", "columns"),
        "covered": (np.uint8, "rows", "columns"),
        "struck": (np.uint8, "rows", "columns"),
        "normal": (np.float32, "rows", "columns", 3),
        "height": (np.float32, "rows", "columns"),
        "hit_triangle": (np.int32, "rows", "columns"),
    },
    rows=np.int64,
    columns=np.int64,
)


@dataclass(frozen=True, slots=True)
class Hits:
    """What every sample of some tiles struck, tile after tile, each in rows of samples.

    tiles (K,) int64; starts (K + 1,) int64, where the samples of each begin. triangle (N,) int32 of the sculpt, or
    MISSED, or OFF where the sample lies on no island or was left out; uv (N, 2) uint16, its second and third
    barycentric in 65535ths.
    """

    tiles: I64
    starts: I64
    triangle: I32
    uv: U16

    @property
    def record(self) -> Record:
        """Of the kind `HITS`, for kernels."""
        return record_of(HITS, tiles=self.tiles, starts=self.starts, triangle=self.triangle, uv=self.uv)


@dataclass(frozen=True, slots=True)
class Cast:
    """What the rays of a bake found, texel by texel; arrays are (H, W) with row 0 on top.

    low_triangle  int32, the row of `Low.triangles` at the texel, -1 where no island lies
    sample        uint8, the covered sample nearest to the texel's centre, counted in rows
    covered       uint8, samples of the texel that lie on the low
    struck        uint8, samples whose ray struck the sculpt
    normal        (H, W, 3) float32, mean of the sculpt's unit shading normals, in object space, not normalised
    height        float32, mean signed distance from low to sculpt, positive outside, scene units
    hit_triangle  int32, triangle of the sculpt struck by that nearest sample, -1 for a miss
    shared        (tiles,) int64, samples of each tile that more than one triangle asked for; `samples` are in a texel
    """

    low_triangle: I32
    sample: U8
    covered: U8
    struck: U8
    normal: F32
    height: F32
    hit_triangle: I32
    shared: I64
    samples: int

    @property
    def record(self) -> Record:
        """Of the kind `CAST`, for kernels."""
        rows, columns = self.low_triangle.shape
        return record_of(
            CAST,
            low_triangle=self.low_triangle,
            sample=self.sample,
            covered=self.covered,
            struck=self.struck,
            normal=self.normal,
            height=self.height,
            hit_triangle=self.hit_triangle,
            rows=rows,
            columns=columns,
        )

    @property
    def contested(self) -> int:
        """Texels' worth of samples that more than one triangle asked for."""
        return -(-int(self.shared.sum()) // self.samples)

    @property
    def texels(self) -> int:
        """Texels that lie on the low."""
        return int(np.count_nonzero(self.covered))

    @property
    def missed(self) -> int:
        """Texels on the low in which no ray struck the sculpt."""
        return int(np.count_nonzero((self.covered > 0) & (self.struck == 0)))


def bands_of(sheet: Grid, tiles: I64) -> list[I64]:
    """Tiles of a sheet; with more than `MOST_SAMPLES` samples they are cut into parts of about `AT_ONCE`."""
    each = TILE * TILE * sheet.side**2
    if len(tiles) * each <= MOST_SAMPLES:
        return [tiles]
    return np.array_split(tiles, -(-len(tiles) * each // AT_ONCE))


def empty_hits(sheet: Grid, tiles: I64) -> Hits:
    """Room for the samples of some tiles."""
    columns = np.minimum(TILE, sheet.width - tiles % sheet.tiles_across * TILE)
    rows = np.minimum(TILE, sheet.height - tiles // sheet.tiles_across * TILE)
    starts = np.concatenate([[0], np.cumsum(columns * rows * sheet.side**2)]).astype(np.int64)
    return Hits(tiles, starts, np.empty(starts[-1], np.int32), np.empty((int(starts[-1]), 2), np.uint16))


def empty_cast(sheet: Grid, on_disk: bool = False) -> Cast:
    shape = (sheet.height, sheet.width)
    return Cast(
        filled(shape, np.int32, -1, on_disk),
        room(shape, np.uint8, on_disk),
        room(shape, np.uint8, on_disk),
        room(shape, np.uint8, on_disk),
        room((*shape, 3), np.float32, on_disk),
        room(shape, np.float32, on_disk),
        filled(shape, np.int32, -1, on_disk),
        np.zeros(len(sheet.starts) - 1, np.int64),
        sheet.side**2,
    )
