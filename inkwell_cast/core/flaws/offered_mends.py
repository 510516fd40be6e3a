"""The mends that detectors offer, each from where a flaw lies and what was measured there."""

import numpy as np

from ..base.array_types import F64, I64
from ..base.figures import figure
from ..piece.piece import Assembly
from ..settings.files import Fix, FixKind
from ..settings.mends import Mend
from ..settings.pairing import Placing
from ..settings.regions import Crease, Directions, Heal, Omission, Patch, Pocket, Stroke
from ..settings.scope_settings import ScopeSettings
from ..settings.scopes import object_scope
from .flaw import LEAST_PATCH, Spot
from .texel_rows import TexelRows

RIM = 0.25  # of a pocket
WIDER, CLEAR = 1.1, 0.002  # than what a pocket should hold; and of the low's diagonal beyond that
OWN = 0.1  # of what is filled in must be the flaw itself
MOST_MEASURED = 50_000  # texels of a part, by which a share of it is measured
DABS = 24  # of a brush, at most, that cover a region
MUCH, NEARLY_ALL = 0.25, 0.95  # of a part: that is said, since "here" is not what one thinks of then


def pocket(assembly: Assembly, spot: Spot, reach: tuple[float, float]) -> Mend:
    """A pocket over the flaw with another outward and inward reach, scene units."""
    unit = assembly.recipe.reach.scale(assembly.low.diagonal)
    outward, inward = reach[0] / unit, reach[1] / unit
    placed = [
        Pocket(
            name=spot.name[:80],
            centre=centre,
            radius=radius / (1 - RIM) / unit,
            outward=outward,
            inward=inward,
            rim=RIM,
        )
        for centre, radius in spot.patches()
    ]
    return Mend(name=spot.name, words=f"Place a pocket: {figure(reach[0])} out, {figure(reach[1])} in", pockets=placed)


def tight_pocket(seen: TexelRows, spot: Spot, at: I64) -> Mend:
    """A pocket that just holds what the best on this low takes at some rows."""
    wanted = seen.wanted[at][np.isfinite(seen.wanted[at])]
    least = CLEAR * seen.context.assembly.low.diagonal
    outward, inward = (WIDER * max(float(way.max(initial=0)), 0.0) + least for way in (wanted, -wanted))
    return pocket(seen.context.assembly, spot, (outward, inward))


def straighten(seen: TexelRows, spot: Spot) -> Mend:
    """Rays that leave the faces under the flaw at right angles; the words say how much of the part that is, if much."""
    centres, radius = _dabs(spot)
    share = _share_in(seen, spot.part, centres, radius)
    words = "Straighten the rays here" if share < MUCH else f"Straighten here, {share:.0%} of the part"
    words = "Straighten the whole part" if share > NEARLY_ALL else words
    strokes = [
        Stroke(kind="straighten", points=[(x, y, z)], radius=max(radius, 1e-9), amount=1.0, falloff=0.3)
        for x, y, z in centres.tolist()
    ]
    return Mend(name=spot.name, words=words, nudges=strokes)


def _share_in(seen: TexelRows, part: str, centres: F64, radius: float) -> float:
    """The share of a part's surface, FILE/OBJECT, within some balls."""
    every, context = seen.everything or seen, seen.context
    number = context.assembly.keys.index(part)
    own = np.flatnonzero(context.assembly.low.objects[context.low.triangles[every.triangle]] == number)
    own = own[:: -(-len(own) // MOST_MEASURED) or 1]
    places, area = every.place[own], every.size[own].astype(np.float64) ** 2
    inside = np.zeros(len(places), bool)
    for centre in centres:
        inside |= np.linalg.norm(places - centre, axis=1) <= radius
    return float(area[inside].sum() / max(area.sum(), 1e-300))


def straighten_flat(spot: Spot) -> Mend:
    return Mend(name=spot.name, words="Straighten all flat faces", straighten=True)


def directions(spot: Spot, way: Directions) -> Mend:
    """Rays of the whole part that part at hard edges, or that do not."""
    words = {"split": "Split its rays at hard edges", "averaged": "Average its rays over hard edges"}[way]
    return Mend(name=spot.name, words=words, levels={object_scope(spot.part): ScopeSettings(directions=way)})


def leave_out(spot: Spot, high: str) -> Mend:
    """A high, FILE/OBJECT, that rays from here pass through."""
    left = [Omission(part=high, centre=centre, radius=radius) for centre, radius in spot.patches()]
    return Mend(name=spot.name, words=f"Leave out {high.rpartition('/')[2]} here", omissions=left)


def own_pair(assembly: Assembly, spot: Spot, highs: list[str]) -> Mend:
    """The flaw's low with its own highs, FILE/OBJECT, as a pair of their own."""
    taken, base, n = {pair.name.lower() for pair in assembly.paired.pairs}, spot.part.rpartition("/")[2], 2
    name = base
    while name.lower() in taken:
        name, n = f"{base} {n}", n + 1
    placed = {key: Placing(pair=name) for key in (spot.part, *highs)}
    return Mend(name=spot.name, words=f"Make {base} a pair of its own", placed=placed)


def fix(spot: Spot, words: str, kind: FixKind, keys: list[str]) -> Mend:
    """A correction of whole parts FILE/OBJECT, on the piece's copy."""
    fixes: dict[str, list[Fix]] = {}
    for key in keys:
        file, _, part = key.partition("/")
        fixes.setdefault(file, []).append(Fix(kind=kind, part=part))
    return Mend(name=spot.name, words=words, fixes=fixes)


def average_edges(spot: Spot) -> Mend:
    """Averaged rays at the corners of the low beside the flaw."""
    creases = [Crease(centre=centre, radius=radius, directions="averaged") for centre, radius in spot.patches()]
    return Mend(name=spot.name, words="Average the rays at these edges", creases=creases)


def nearest(spot: Spot) -> Mend:
    """Of all that rays from the flaw's place pass within their reach, what lies nearest to the low."""
    taken = [
        Patch(centre=centre, radius=radius / (1 - RIM), rim=RIM, nearest=True) for centre, radius in spot.patches()
    ]
    return Mend(name=spot.name, words="Take the nearest surface here", patches=taken)


def heals(seen: TexelRows, spot: Spot) -> list[Mend]:
    """Filling in from the rim; none where that would fill in far more than the flaw."""
    mend, every, low = _heal(spot), seen.everything or seen, seen.context.low
    thinned = -(-len(every.place) // MOST_MEASURED) or 1
    places, triangles = every.place[::thinned], low.triangles[every.triangle[::thinned]]
    inside = np.zeros(len(places), bool)
    for patch in mend.heals:
        around = spot.ground().around(patch.centre, patch.radius)
        inside |= around.distance(triangles, places) <= patch.radius
    return [mend] if len(spot.places) >= OWN * thinned * inside.sum() else []


def _heal(spot: Spot) -> Mend:
    """The flaw's place, or the places that it consists of, filled in from their rim."""
    centres, radius = _dabs(spot)
    patches = [Heal(centre=centre, radius=wide) for centre, wide in spot.patches()]
    if len(centres) > 1 and len(centres) * radius**2 < spot.radius**2:
        patches = [Heal(centre=(x, y, z), radius=max(radius, 1e-9)) for x, y, z in centres.tolist()]
    return Mend(name=spot.name, words="Fill it in from its rim", heals=patches)


def _dabs(spot: Spot) -> tuple[F64, float]:
    """Centres of about `DABS` places that hold all of a flaw, far from each other, and their radius.

    Each shell of the low has its own, since what is brushed on one does not reach another.
    """
    some = np.linspace(0, len(spot.places) - 1, min(len(spot.places), 4000)).astype(np.int64)
    few, shells = spot.places[some], spot.ground().shells[spot.triangles[some]]
    chosen, away = list[int](), np.zeros(len(few))
    names, counts = np.unique(shells, return_counts=True)
    for shell in names[np.argsort(-counts, kind="stable")][:DABS]:
        own = np.flatnonzero(shells == shell)
        chosen.append(int(own[np.argmin(np.linalg.norm(few[own] - few[own].mean(axis=0), axis=1))]))
        away[own] = np.linalg.norm(few[own] - few[chosen[-1]], axis=1)
    size, most = float(away.max()), len(chosen) + DABS - 1
    while len(chosen) < most and away.max() > 0.2 * size:
        chosen.append(int(np.argmax(away)))
        own = np.flatnonzero(shells == shells[chosen[-1]])
        away[own] = np.minimum(away[own], np.linalg.norm(few[own] - few[chosen[-1]], axis=1))
    return few[chosen], max(float(away.max()) / 0.7, LEAST_PATCH * spot.radius)
