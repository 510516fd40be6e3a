"""Normal maps made elsewhere: from object space to tangent space and back, from one basis to another; and which way
their green points.
"""

import pathlib
from dataclasses import replace

import numpy as np

from ..base.array_types import F32, F64
from ..base.errors import InputProblem
from ..cast.hits import Cast, empty_cast
from ..images import png, read_picture
from ..maps import normal
from ..mesh.mesh import Mesh
from ..mesh.normals import with_normals
from ..piece.low_on_sheet import Low, prepare_lows
from ..settings.basis import Basis
from ..settings.recipe import Recipe
from ..settings.sheet import Sheet
from ..tangent.frame import tangents_for
from ..uv.layout import SheetPlan, lay_out_sheets
from ..uv.padding import nearest_covered, pad
from ..uv.rasterise import TILE, fill_tile
from .mix import save

SURE = 1.3  # how many times rougher the wrong green must be


def convert(
    image: F32, low: Mesh, source: Basis | None, target: Basis | None, channel: int = 0, plan: SheetPlan | None = None
) -> F32:
    """A normal map (H, W, 3) of a low, values 0 to 1, in another basis; None stands for object space.

    `plan` is the sheet that it belongs to, by default one that takes the whole low. Texels off the low keep the nearest
    on it. Raises InputProblem for a low without UVs or tangents that are asked for.
    """
    mesh = with_normals(low)
    if channel >= len(mesh.uvs) or not mesh.uvs[channel].complete:
        raise InputProblem(low.name, f"It has no UVs in channel {channel}.", "Choose another channel, or unwrap it.")
    height, width = image.shape[:2]
    recipe = Recipe(sheet=Sheet(width=width, height=height, samples=1, channel=channel))
    plans = [replace(plan, width=width, height=height)] if plan else lay_out_sheets(recipe, mesh).sheets
    laid = prepare_lows(mesh, plans, channel, 1)[0]
    cast = rasterised(laid)
    covered = cast.covered > 0
    if source is None:
        normals = 2 * image - 1
    else:
        normals = normal.decoded(cast, _with(laid, source, channel), source, image.astype(np.float32))
    length = np.maximum(np.linalg.norm(normals, axis=2, keepdims=True), 1e-20)
    normals = np.where(covered[..., None], normals / length, 0).astype(np.float32)
    if target is None:
        out: F32 = (0.5 * normals + 0.5).astype(np.float32)
    else:
        out = normal.encoded(cast, _with(laid, target, channel), target, normals, cast.covered)
    source_texel = nearest_covered(cast.covered, width + height)
    if covered.any():
        pad(out, source_texel)
    return out


def _with(low: Low, basis: Basis, channel: int) -> Low:
    tangents = tangents_for(low.mesh, channel, basis)[low.triangles]
    return Low(low.mesh, low.triangles, low.normals, tangents, low.grid)


def rasterised(low: Low) -> Cast:
    """A cast without rays: which triangle lies at the centre of each texel."""
    grid, cast = low.grid, empty_cast(low.grid)
    for tile in grid.busy_tiles.tolist():
        x, y = tile % grid.tiles_across * TILE, tile // grid.tiles_across * TILE
        block = cast.low_triangle[y : y + TILE, x : x + TILE]
        part = np.empty(block.shape, np.int32)
        fill_tile(part, x, y, 1, grid.shift, grid.corners, grid.listed[grid.starts[tile] : grid.starts[tile + 1]])
        block[:] = part
    cast.covered[:] = cast.low_triangle >= 0
    return cast


def likely_green(image: F32) -> tuple[str, float]:
    """Which way the green of a tangent-space map (H, W, 3), 0 to 1, most likely points, and how sure that is.

    The slopes of a surface are the derivatives of its height, so they have no curl: d(x / z) / dv = d(y / z) / du. With
    green the wrong way they do. Gives "up" or "down" and how many times rougher the other is; under `SURE` it is a
    guess. Steep and empty texels and borders of islands are left out.
    """
    x, y, z = (2 * image[..., k].astype(np.float64) - 1 for k in range(3))
    usable = (z > 0.3) & (image.max(axis=2) > 0)
    p, q = (np.divide(c, z, out=np.zeros_like(z), where=usable) for c in (x, y))
    inner = usable[1:-1, 1:-1] & usable[:-2, 1:-1] & usable[2:, 1:-1] & usable[1:-1, :-2] & usable[1:-1, 2:]
    along_v = (p[:-2, 1:-1] - p[2:, 1:-1])[inner]  # v grows upward
    along_u = (q[1:-1, 2:] - q[1:-1, :-2])[inner]
    smooth = (np.abs(along_v) < 0.5) & (np.abs(along_u) < 0.5)  # a jump is a border
    up, down = _roughness(along_v[smooth] - along_u[smooth]), _roughness(along_v[smooth] + along_u[smooth])
    ratio = (down + 1e-12) / (up + 1e-12)
    return ("up", ratio) if ratio >= 1 else ("down", 1 / ratio)


def _roughness(curl: F64) -> float:
    return float(np.mean(curl * curl)) if len(curl) else 0.0


def convert_file(
    given: pathlib.Path, result: pathlib.Path, low: Mesh, source: Basis | None, target: Basis | None, channel: int = 0
) -> str:
    """Convert a picture into another; gives a sentence where the green of the given one looks otherwise, or "".

    The suffix of `result` says its format; it gets the depth of the given one, or the nearest that the format has.
    """
    steps = read_picture(given)
    image = png.dequantise(steps)
    said = ""
    if source is not None:
        green, sure = likely_green(image)
        if green != source.green and sure >= SURE:
            said = f"{given.name}: its green looks as if it pointed {green}, but green {source.green} was given."
    out = convert(image, low, source, target, channel)
    save(result, out, {1: 8, 2: 16}.get(steps.dtype.itemsize, 32))
    return said
