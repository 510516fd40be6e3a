"""Islands that lie on each other. Those that coincide, as mirrored parts do, were put there on purpose."""

from collections import Counter
from collections.abc import Iterator

import numpy as np

from ..base.array_types import F64, I32, I64
from ..base.kernels import kernel
from ..base.on_demand import on_demand
from ..uv.layout import lay_out_sheets
from ..uv.rasterise import TILE, fill_tile, grid
from .finding import Finding, Inspected, Subject, plural

cKDTree = on_demand("scipy.spatial", "cKDTree")

KEY = "overlaps"
TITLE = "Overlapping islands"
SIDE = 1024
FEWEST_TEXELS = 6
SAME_WITHIN = 2 / SIDE
AREA_WITHIN = 0.03


def find(piece: Inspected) -> Iterator[Finding]:
    """One finding for each pair of parts whose islands overlap; shared places are counted in one note."""
    by_key = {low.part.key: low for low in piece.lows}
    lows = [by_key[key] for key in piece.assembly.keys]  # in the order of the joined low
    if not lows or any(low.uvs is None for low in lows):
        return
    island, owner = _islands(lows)
    copied = np.bincount(island, np.concatenate([~low.judged for low in lows])) > 0  # told as copies
    boxes = _boxes(lows, island)
    shared = 0
    wrong: Counter[tuple[int, int]] = Counter()
    pairs_of_parts: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for (a, b), texels in _meeting(piece, island).items():
        if texels < FEWEST_TEXELS:
            continue
        if a != b and _coincide(boxes[a], boxes[b]) and _alike(lows, island, a, b):
            shared += not (copied[a] or copied[b])
            continue
        key = int(min(owner[a], owner[b])), int(max(owner[a], owner[b]))
        wrong[key] += texels
        pairs_of_parts.setdefault(key, []).append((a, b))
    start = np.cumsum([0, *[len(low.mesh.triangles) for low in lows]])
    for (p, q), texels in wrong.most_common(40):
        first, second = lows[p], lows[q]
        meeting = pairs_of_parts[p, q]
        chosen = np.isin(island[start[p] : start[p + 1]], [n for pair in meeting for n in pair])
        names = f"in {first.part.name}" if p == q else f"of {first.part.name} and {second.part.name}"
        yield Finding(
            KEY,
            "warning",
            TITLE,
            first.part.key,
            texels,
            f"{plural(len(meeting), 'pair')} of islands {names} overlap on about {texels / SIDE**2:.2%} of the sheet; "
            "only the first of the file is baked there.",
            "Move the islands apart, or onto each other exactly to share them.",
            marks=first.marks(chosen),
        )
    if shared:
        yield Finding(
            KEY,
            "note",
            "Shared places",
            "",
            shared,
            f"{plural(shared, 'pair')} of islands share one place on the sheet; the first of the file is baked.",
            "Nothing, if you meant it.",
        )


def _islands(lows: list[Subject]) -> tuple[I32, I64]:
    """The island of every triangle of the joined lows, and the low of every island."""
    rows, owner, start = [], [], 0
    for n, low in enumerate(lows):
        rows.append(low.islands + np.int32(start))
        count = int(low.islands.max(initial=-1)) + 1
        owner += [n] * count
        start += count
    return np.concatenate(rows), np.array(owner, np.int64)


def _boxes(lows: list[Subject], island: I32) -> F64:
    """Lowest and highest UV of each island within its tile, (N, 4)."""
    uvs = np.concatenate([low.uvs for low in lows if low.uvs is not None]).astype(np.float64)
    count = int(island.max(initial=-1)) + 1
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    np.minimum.at(low, island, uvs.min(axis=1))
    np.maximum.at(high, island, uvs.max(axis=1))
    tile = np.floor((low + high) / 2)
    return np.concatenate([low - tile, high - tile], axis=1)


def _coincide(a: F64, b: F64) -> bool:
    return bool(np.abs(a - b).max() < SAME_WITHIN)


def _alike(lows: list[Subject], island: I32, a: int, b: int) -> bool:
    """Whether two islands have their corners in the same places of the tile, and as much of them: shared on purpose."""
    uvs = np.concatenate([low.uvs for low in lows if low.uvs is not None]).astype(np.float64)
    sets = []
    for n in (a, b):
        shape = uvs[island == n]
        flat = shape.reshape(-1, 2)
        tile = np.floor((flat.min(axis=0) + flat.max(axis=0)) / 2)
        u, v = shape[:, 1] - shape[:, 0], shape[:, 2] - shape[:, 0]
        area = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum()
        sets.append((flat - tile, float(area)))
    (one, first), (other, second) = sets
    if abs(first - second) > AREA_WITHIN * max(first, second):
        return False
    ways = (one, other), (other, one)
    return all(bool((cKDTree(to).query(of)[0] < SAME_WITHIN).all()) for of, to in ways)


def _meeting(piece: Inspected, island: I32) -> Counter[tuple[int, int]]:
    """Texels of a small sheet on which two islands, or two triangles of one that do not touch there, meet."""
    meetings: Counter[tuple[int, int]] = Counter()
    recipe = piece.assembly.recipe
    for sheet in lay_out_sheets(recipe, piece.assembly.low).sheets:
        g = grid(sheet.uvs, SIDE, SIDE, 1)
        rows = island[sheet.triangles]
        for k in g.busy_tiles.tolist():
            x0, y0 = k % g.tiles_across * TILE, k // g.tiles_across * TILE
            listed = g.listed[g.starts[k] : g.starts[k + 1]]
            if len(listed) < 2:
                continue
            first = np.empty((TILE, TILE), np.int32)
            if fill_tile(first, x0, y0, 1, g.shift, g.corners, listed) == 0:
                continue
            for a, b, n in _pairs(first, x0, y0, g.shift, g.corners, listed, rows).tolist():
                meetings[min(a, b), max(a, b)] += n
    return meetings


@kernel
def _pairs(first: I32, x0: int, y0: int, shift: int, corners: I64, listed: I32, rows: I32) -> I64:
    """(island, island, texels) for triangles that ask for a texel which `first` gives to another."""
    out = np.zeros((256, 3), np.int64)
    count = 0
    filled = np.empty((TILE, TILE), np.int32)
    one = np.empty(1, np.int32)
    for t in listed:
        one[0] = t
        fill_tile(filled, x0, y0, 1, shift, corners, one)
        for y in range(filled.shape[0]):
            for x in range(filled.shape[1]):
                if filled[y, x] < 0 or first[y, x] == t:
                    continue
                a, b = rows[first[y, x]], rows[t]
                k = 0
                while k < count and (out[k, 0] != a or out[k, 1] != b):
                    k += 1
                if k == len(out):
                    continue
                if k == count:
                    out[k, 0], out[k, 1] = a, b
                    count += 1
                out[k, 2] += 1
    return out[:count]
