"""A low with pictures of normals on, as a receiver shows it: the normal that it computes at a place of the low."""

from dataclasses import dataclass

import numpy as np

from ..base.array_types import AnyArray
from ..base.borrowed_arrays import block, keeping
from ..base.kernel_types import Vector, Whole
from ..base.kernels import kernel
from ..base.records import Record, record_kind, record_of, view
from ..cast.context import Context
from ..tangent.frame import form_of, frame, green_sign, to_object

PICTURE = np.dtype([(name, np.int64) for name in ("address", "width", "height", "bytes", "first", "across", "down")])
WORN = record_kind(
    {
        "starts": np.int64,
        "sheet": np.int32,
        "row": np.int32,
        "corners": (np.float64, 3, 2),
        "normals": (np.float32, 3, 3),
        "tangents": (np.float32, 3, 4),
        "pictures": PICTURE,
    },
    form=np.int64,
    sign=np.float64,
    object_space=np.int64,
)


@dataclass(frozen=True, slots=True)
class Pictures:
    """Pictures of normals as they are written, (H, W, 3 or more) one a sheet: in tangent space, or in object space."""

    images: list[AnyArray]
    object_space: bool = False


@dataclass(frozen=True, slots=True)
class DressedLow:
    """The lows with pictures of normals on: `record` of the kind `WORN`, for kernels.

    images are (H, W, 3) uint8, uint16 or float32 from 0 to 1, one a sheet; texels counts those of the contexts' sheets
    together, which may be fewer than the pictures have.
    """

    record: Record
    texels: int


def worn(contexts: list[Context], given: Pictures) -> DressedLow:
    """The lows of a piece with pictures of normals on, as written: in the recipe's basis, or in object space."""
    low, basis = contexts[0].assembly.low, contexts[0].recipe.basis
    rows = [context.low.triangles for context in contexts]
    triangles = np.concatenate(rows)
    order = np.argsort(triangles, kind="stable")
    starts = np.searchsorted(triangles[order], np.arange(len(low.triangles) + 1)).astype(np.int64)
    sheet = np.repeat(np.arange(len(contexts), dtype=np.int32), [len(r) for r in rows])[order]
    images = [_readable(image) for image in given.images]
    pictures, first, corners = np.zeros(len(images), PICTURE), 0, []
    for n, (image, context) in enumerate(zip(images, contexts, strict=True)):
        (height, width), grid = image.shape[:2], context.low.grid
        each = np.array([width / grid.width, height / grid.height])
        corners.append(grid.corners / float(grid.side << grid.shift) * each)
        address = image.__array_interface__["data"][0]
        pictures[n] = address, width, height, image.itemsize, first, grid.width, grid.height
        first += grid.height * grid.width
    record = record_of(
        WORN,
        starts=starts,
        sheet=sheet,
        row=order.astype(np.int32),
        corners=np.ascontiguousarray(np.concatenate(corners)),
        normals=np.concatenate([context.low.normals for context in contexts]),
        tangents=np.concatenate([context.low.tangents for context in contexts]),
        pictures=keeping(pictures, *images),
        form=form_of(basis),
        sign=green_sign(basis),
        object_space=int(given.object_space),
    )
    return DressedLow(record, first)


def _readable(image: AnyArray) -> AnyArray:
    """A picture (H, W, 3) as kernels read it: uint8, uint16 or float32."""
    wide = image.astype(np.float32) if image.dtype.kind == "f" else image
    return np.ascontiguousarray(wide[..., :3])


@kernel
def place_of_low(t: int, b1: float, b2: float, worn: Record) -> tuple[int, float, float, Whole]:
    """Where barycentrics b of triangle t lie: its row on a sheet, x and y in its picture, and the texel of the sheet.

    -1 off all sheets.
    """
    starts, row = view(worn, "starts"), view(worn, "row")
    sheet = view(worn, "sheet")
    corners = view(worn, "corners")
    pictures, b0 = view(worn, "pictures"), 1 - b1 - b2
    chosen, x, y = -1, 0.0, 0.0
    for n in range(starts[t], starts[t + 1]):
        c, picture = corners[row[n]], pictures[sheet[n]]
        u, v = b0 * c[0, 0] + b1 * c[1, 0] + b2 * c[2, 0], b0 * c[0, 1] + b1 * c[1, 1] + b2 * c[2, 1]
        if chosen < 0 or (0 <= u < picture.width and 0 <= v < picture.height):
            chosen, x, y = n, u, v
            if 0 <= u < picture.width and 0 <= v < picture.height:
                break
    if chosen < 0:
        return -1, x, y, np.int64(-1)
    picture = pictures[sheet[chosen]]
    column, line = np.int64(np.floor(x)) % picture.width, np.int64(np.floor(y)) % picture.height
    column, line = column * picture.across // picture.width, line * picture.down // picture.height
    return chosen, x, y, picture.first + line * picture.across + column


@kernel
def normal_of_low(t: int, b1: float, b2: float, worn: Record) -> tuple[Vector, int]:
    """The normal that a receiver computes at barycentrics b of triangle t, and the sheet's texel; -1 off all sheets."""
    chosen, x, y, place = place_of_low(t, b1, b2, worn)
    if chosen < 0:
        return (0.0, 0.0, 1.0), place
    row, b0 = view(worn, "row"), 1 - b1 - b2
    sheet = view(worn, "sheet")
    picture, k = view(worn, "pictures")[sheet[chosen]], row[chosen]
    red, green, blue = _bilinear(x - 0.5, y - 0.5, picture)
    vx, vy, vz = 2 * red - 1, 2 * green - 1, 2 * blue - 1
    if worn.object_space:
        return (vx, vy, vz), place
    normals = view(worn, "normals")
    tangents = view(worn, "tangents")
    return to_object(vx, worn.sign * vy, vz, frame(b0, b1, b2, normals[k], tangents[k], worn.form)), place


@kernel
def _bilinear(x: float, y: float, picture: Record) -> Vector:
    """Red, green and blue from 0 to 1 between the four texels around (x, y); a picture repeats beyond its edges."""
    left, top = np.int64(np.floor(x)), np.int64(np.floor(y))
    fx, fy = x - left, y - top
    red = green = blue = 0.0
    for j in range(2):
        for i in range(2):
            weight = (fx if i else 1 - fx) * (fy if j else 1 - fy)
            r, g, b = _texel((left + i) % picture.width, (top + j) % picture.height, picture)
            red += weight * r
            green += weight * g
            blue += weight * b
    return red, green, blue


@kernel
def _texel(x: int, y: int, picture: Record) -> Vector:
    """Red, green and blue of one texel from 0 to 1."""
    shape = (picture.height, picture.width, 3)
    if picture.bytes == 1:
        a = block(picture.address, shape, np.uint8)[y, x]
        return a[0] / 255.0, a[1] / 255.0, a[2] / 255.0
    if picture.bytes == 2:
        c = block(picture.address, shape, np.uint16)[y, x]
        return c[0] / 65535.0, c[1] / 65535.0, c[2] / 65535.0
    f = block(picture.address, shape, np.float32)[y, x]
    return np.float64(f[0]), np.float64(f[1]), np.float64(f[2])
