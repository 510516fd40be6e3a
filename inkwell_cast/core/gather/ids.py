"""IDs: which of some names most of a texel's hits belong to; never a mixture of two."""

from dataclasses import dataclass

import numba
import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ..arrays import I32, Any_
from ..assembly import Assembly, Sculpt
from ..cast import Hits
from ..ground import Ground
from ..mesh import Mesh
from ..normals import vertices
from ..recipe import Recipe
from ..srgb import to_srgb
from .texels import Cancel, Progress, over_tiles, tile_box

CHANNELS, KIND = 1, np.int32
MOST_NAMES = 4096
MOST_VOTES = 64
KINDS = ("part", "object", "material")  # of assignments to the library, the most specific first


@dataclass(frozen=True, slots=True)
class Names:
    """What IDs stand for: the name of each, and the ID (T,) int32 of each triangle of the sculpt, counted from 1."""

    names: tuple[str, ...]
    of: I32


def depends(recipe: Recipe) -> object:
    return recipe.ids.by, _assigned(recipe) if recipe.ids.by == "library" else None


def cost(recipe: Recipe) -> float:
    return 0.1


def prepare(ground: Ground) -> Names:
    by, pairs = ground.assembly.recipe.ids.by, [pair.name for pair in ground.assembly.paired.pairs]
    key = f"{ground.sculpt.serial} {depends(ground.assembly.recipe)} {pairs}"
    found: Names = ground.warm.once("names", key, lambda: names_of(ground.assembly, ground.sculpt, by))
    return found


def _assigned(recipe: Recipe) -> list[tuple[str, str, str]]:
    return sorted((kind, *own) for kind in KINDS for own in recipe.library.of(kind).items())


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
        found = names_of(assembly, sculpt, kind)
        place = np.full(len(found.names), -1, np.int32)
        for n, name in enumerate(found.names):
            if name in chosen:
                place[n] = len(names)
                names.append(chosen[name])
        given = place[found.of - 1]
        of = np.where(given >= 0, given, of)
    return _named(names, of)


def _by_color(mesh: Mesh) -> Names:
    if mesh.colors is None:
        return Names(("no vertex colours",), np.ones(len(mesh.triangles), np.int32))
    light = np.clip(mesh.colors.at_corners()[:, :, :3].mean(axis=1), 0, 1)
    steps = np.rint(to_srgb(light) * 255).astype(np.int64)  # as the map of carried colours shows them
    code = (steps[:, 0] << 16) | (steps[:, 1] << 8) | steps[:, 2]
    found, of, count = np.unique(code, return_inverse=True, return_counts=True)
    if len(found) > MOST_NAMES:  # a painted sculpt: nearest of its most frequent colours
        kept = np.sort(np.argsort(-count, kind="stable")[:256])
        table = np.stack([found >> 16, found >> 8 & 255, found & 255], axis=1)
        nearest = np.empty(len(found), np.int64)
        for k in range(0, len(found), 4096):
            apart = ((table[k : k + 4096, None] - table[kept][None]) ** 2).sum(axis=2)
            nearest[k : k + 4096] = apart.argmin(axis=1)
        found, of = found[kept], nearest[of]
    return Names(tuple(f"#{c:06x}" for c in found.tolist()), of.astype(np.int32) + np.int32(1))


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


def gather(ground: Ground, hits: Hits, ready: Names, out: Any_, progress: Progress, cancelled: Cancel) -> None:
    over_tiles(hits, ground.low.grid, _vote, (ready.of, out), progress, cancelled)


@numba.njit(cache=True, nogil=True)
def _vote(tiles, starts, triangle, uv, across, width, height, side, of, out):  # type: ignore[no-untyped-def]
    seen, votes = np.empty(MOST_VOTES, np.int32), np.empty(MOST_VOTES, np.int32)
    for k in range(len(tiles)):
        x0, y0, columns, rows = tile_box(tiles[k], across, width, height)
        for y in range(rows):
            for x in range(columns):
                count = 0
                for j in range(side):
                    for i in range(side):
                        t = triangle[starts[k] + (y * side + j) * columns * side + x * side + i]
                        if t < 0:
                            continue
                        own, place = of[t], 0
                        while place < count and seen[place] != own:
                            place += 1
                        if place == count:
                            seen[place], votes[place] = own, 0
                            count += 1
                        votes[place] += 1
                best = 0
                for place in range(1, count):  # of equal ones the lowest
                    more = votes[place] - votes[best]
                    if more > 0 or (more == 0 and seen[place] < seen[best]):
                        best = place
                out[y0 + y, x0 + x, 0] = seen[best] if count else 0
