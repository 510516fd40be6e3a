"""ID colours: one flat colour for each material, object, connected part, vertex colour, pair or file.

The layer holds which of some names most of a texel's hits belong to; never a mixture of two. A colour follows from its
name alone, so it stays when others are added; only where it would be too close to that of an earlier name the next of
its own series is taken.
"""

import colorsys
import hashlib
import math
from dataclasses import dataclass

import numpy as np

from ..base.array_types import F32, I32, AnyArray
from ..base.color_space import steps_of, to_linear, to_srgb
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from ..base.progress import Cancel, ShareDone
from ..base.records import Record
from ..cast.context import Context
from ..cast.hits import Hits
from ..mesh.mesh import Mesh
from ..mesh.normals import vertices
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot
from ..piece.sculpt import Sculpt
from ..settings.recipe import Recipe
from ..settings.staleness import gathered, settings_behind
from ..uv.rasterise import tile_box
from .hits_of_tile import over_tiles, samples_of, tiles_of, triangles_of
from .value_range import Derived

coo_array = on_demand("scipy.sparse", "coo_array")
connected_components = on_demand("scipy.sparse.csgraph", "connected_components")

KEY, LABEL = "ids", "ID colours"
REASON = "One flat colour for each material, object or part of the sculpt, never blended."
LAYER, GROUP, SPACE = "ids", "ids", "sRGB"
BACKGROUND = (0.0, 0.0, 0.0)
APART, TRIES = 120, 32  # of 255 in red, green and blue, and how far along a name's series
NAMES = Slot["Names"]()


def derive(context: Context, layer: AnyArray | None) -> Derived:
    """(H, W, 3) float32. Facts: the legend, colours by name, of those that occur."""
    assert layer is not None
    names, library = prepare(context).names, context.recipe.library
    colors = colors_of(names, library.id_colors() | context.recipe.ids.colors)
    table: F32 = np.array([(0, 0, 0), *(steps_of(colors[name]) for name in names)], np.float32) / np.float32(255)
    present = np.unique(layer)
    legend = {names[n - 1]: colors[names[n - 1]] for n in present.tolist() if n > 0}
    facts = {"legend": legend, "by": context.recipe.ids.by}
    return Derived(table[layer[..., 0]], facts, lambda: to_linear(table)[layer[..., 0]])


def mask_of(image: AnyArray, color: str) -> AnyArray:
    """Where a colour stands in the whole steps of an ID map (H, W, 3): white on black (H, W, 1)."""
    top = np.iinfo(image.dtype).max
    rgb = np.rint(np.array(steps_of(color)) / 255 * top).astype(image.dtype)
    mask = image[..., 0] == rgb[0]
    for channel in (1, 2):
        mask &= image[..., channel] == rgb[channel]
    return mask[..., None].astype(image.dtype) * np.asarray(top, image.dtype)


def colors_of(names: tuple[str, ...], chosen: dict[str, str]) -> dict[str, str]:
    """A colour "#rrggbb" for every name: as chosen, as a name that is a colour says, or from the series of its name."""
    hex_colors = {name: chosen.get(name, name if name.startswith("#") and len(name) == 7 else "") for name in names}
    taken = [steps_of(color) for color in hex_colors.values() if color]
    for name in names:
        if hex_colors[name]:
            continue
        options = [_series(name, n) for n in range(TRIES)]
        apart = [min((math.dist(option, other) for other in taken), default=255.0) for option in options]
        best = next((n for n, d in enumerate(apart) if d >= APART), int(np.argmax(apart)))
        taken.append(options[best])
        hex_colors[name] = "#{:02x}{:02x}{:02x}".format(*options[best])
    return hex_colors


def _series(name: str, n: int) -> tuple[int, int, int]:
    """Colour n of a name's series: hues from the hash of the name, a golden step on each time."""
    digest = hashlib.sha256(name.encode()).digest()
    start = int.from_bytes(digest[:4], "big") / 2**32
    hue = (start + n * 0.6180339887498949) % 1
    saturation, value = (0.85, 0.55, 0.7)[(digest[4] + n) % 3], (0.95, 0.7, 0.5)[(digest[5] + n // 3) % 3]
    red, green, blue = colorsys.hsv_to_rgb(hue, saturation, value)
    return round(red * 255), round(green * 255), round(blue * 255)


CHANNELS, KIND = 1, np.int32
MOST_NAMES = 4096
MOST_VOTES = 64
KINDS = ("part", "object", "material")  # of assignments to the library, the most specific first


@dataclass(frozen=True, slots=True)
class Names:
    """What IDs stand for: the name of each, and the ID (T,) int32 of each triangle of the sculpt, counted from 1."""

    names: tuple[str, ...]
    of: I32


def cost(recipe: Recipe) -> float:
    return 0.1


def prepare(context: Context) -> Names:
    by, pairs = context.assembly.recipe.ids.by, [pair.name for pair in context.assembly.paired.pairs]
    key = f"{context.sculpt.serial} {settings_behind(context.recipe, gathered('ids'))} {pairs}"
    names: Names = context.warm.once(NAMES, key, lambda: names_of(context.assembly, context.sculpt, by))
    return names


def names_of(assembly: Assembly, sculpt: Sculpt, by: str) -> Names:
    """The names by "material", "object", "part" (what hangs together), "color", "pair", "file" or "library"."""
    mesh = sculpt.mesh
    if by == "material":
        return _named([name or "no material" for name in mesh.material_names], mesh.materials)
    if by == "object":
        return _named(list(mesh.object_names), mesh.objects)
    if by == "file":
        return _named([key.split("/", 1)[0] for key in sculpt.keys], mesh.objects)
    if by == "pair":
        pairs = np.repeat(np.arange(len(sculpt.first) - 1), np.diff(sculpt.first)).astype(np.int32)
        return _named([pair.name for pair in assembly.paired.pairs], pairs)
    if by == "color":
        return _by_color(mesh)
    if by == "library":
        return _by_library(assembly, sculpt)
    return _by_part(mesh)


def _named(names: list[str], of: I32) -> Names:
    """Names that stand there twice become one."""
    place = {name: n for n, name in enumerate(dict.fromkeys(names))}
    row = np.array([place[name] for name in names], np.int32)
    return Names(tuple(place), row[of] + np.int32(1))


def _by_library(assembly: Assembly, sculpt: Sculpt) -> Names:
    """The material of the library that a triangle's part, object or material was given; else its own material."""
    plain = names_of(assembly, sculpt, "material")
    names = list(plain.names)
    of: I32 = plain.of - np.int32(1)
    for kind in reversed(KINDS):
        chosen = assembly.recipe.library.of(kind)
        if not chosen:
            continue
        by_kind = names_of(assembly, sculpt, kind)
        place = np.full(len(by_kind.names), -1, np.int32)
        for n, name in enumerate(by_kind.names):
            if name in chosen:
                place[n] = len(names)
                names.append(chosen[name])
        given = place[by_kind.of - 1]
        of = np.where(given >= 0, given, of)
    return _named(names, of)


def _by_color(mesh: Mesh) -> Names:
    if mesh.colors is None:
        return Names(("no vertex colours",), np.ones(len(mesh.triangles), np.int32))
    light = np.clip(mesh.colors.at_corners()[:, :, :3].mean(axis=1), 0, 1)
    steps = np.rint(to_srgb(light) * 255).astype(np.int64)  # as the map of carried colours shows them
    code = (steps[:, 0] << 16) | (steps[:, 1] << 8) | steps[:, 2]
    codes, of, count = np.unique(code, return_inverse=True, return_counts=True)
    if len(codes) > MOST_NAMES:  # a painted sculpt: nearest of its most frequent colours
        kept = np.sort(np.argsort(-count, kind="stable")[:256])
        table = np.stack([codes >> 16, codes >> 8 & 255, codes & 255], axis=1)
        nearest = np.empty(len(codes), np.int64)
        for k in range(0, len(codes), 4096):
            apart = ((table[k : k + 4096, None] - table[kept][None]) ** 2).sum(axis=2)
            nearest[k : k + 4096] = apart.argmin(axis=1)
        codes, of = codes[kept], nearest[of]
    return Names(tuple(f"#{c:06x}" for c in codes.tolist()), of.astype(np.int32) + np.int32(1))


def _by_part(mesh: Mesh) -> Names:
    """Connected parts, the largest first within each object."""
    _, triangles, shared = vertices(mesh)
    ids = shared[triangles]
    count = int(ids.max()) + 1
    links = np.concatenate([ids[:, [0, 1]], ids[:, [1, 2]]])
    graph = coo_array((np.ones(len(links), np.int8), (links[:, 0], links[:, 1])), shape=(count, count))
    label = connected_components(graph, directed=False)[1][ids[:, 0]]
    parts, first, of, sizes = np.unique(label, return_index=True, return_inverse=True, return_counts=True)
    owner = mesh.objects[first]
    order = np.lexsort((first, -sizes, owner))[:MOST_NAMES]
    place, names, within = np.zeros(len(parts), np.int32), [], dict[int, int]()
    for n, k in enumerate(order.tolist()):
        within[int(owner[k])] = number = within.get(int(owner[k]), 0) + 1
        names.append(f"{mesh.object_names[owner[k]]} {number}")
        place[k] = n
    return Names(tuple(names), place[of] + np.int32(1))


def gather(context: Context, hits: Hits, ready: Names, out: AnyArray, progress: ShareDone, cancelled: Cancel) -> None:
    over_tiles(hits, context.low.grid, _vote, (ready.of, out), progress, cancelled)


@kernel
def _vote(first: int, last: int, hits: Record, grid: Record, of: I32, out: I32) -> None:
    """The name (H, W, 1) that most hits of a texel belong to, of equal ones the lowest; of (T,) int32 by triangle."""
    tiles, triangle, side = tiles_of(hits), triangles_of(hits), grid.side
    seen, votes = np.empty(MOST_VOTES, np.int32), np.empty(MOST_VOTES, np.int32)
    for k in range(first, last):
        x0, y0, columns, rows = tile_box(tiles[k], grid)
        for y in range(rows):
            for x in range(columns):
                begin, stride = samples_of(k, x, y, columns, hits, grid)
                count = 0
                for j in range(side):
                    for i in range(side):
                        t = triangle[begin + j * stride + i]
                        if t < 0:
                            continue
                        name, place = of[t], 0
                        while place < count and seen[place] != name:
                            place += 1
                        if place == count:
                            seen[place], votes[place] = name, 0
                            count += 1
                        votes[place] += 1
                best = 0
                for place in range(1, count):
                    more = votes[place] - votes[best]
                    if more > 0 or (more == 0 and seen[place] < seen[best]):
                        best = place
                out[y0 + y, x0 + x, 0] = seen[best] if count else 0
