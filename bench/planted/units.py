"""Units that assets are put together from: a low and what is sculpted for it, healthy or with one planted mistake.

Every mistake is one that artists make, by its description: something is as it should be in the twin of a unit
(`wrong` false), and is not in the unit itself. Forms, sizes, densities and places are drawn.
"""

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from inkwell_cast.core.mesh.mesh import Mesh, merge, values_at_corners

from .forms import (
    F64,
    SMOOTH,
    Form,
    Relief,
    Rng,
    added,
    any_turn,
    around_axis,
    ball,
    ball_patches,
    bare,
    box,
    box_patches,
    chamfered,
    even,
    faceted,
    flat,
    knobs,
    laid,
    named,
    placed,
    plate,
    ring,
    sheet_of,
    soft,
    somewhere,
    tube,
    turned_over,
    waves,
)

LINE = np.linspace(0, 1, 61)


@dataclass(frozen=True, slots=True)
class Unit:
    """Lows and highs of a pair with its reach outward and inward; `settings` are of the piece."""

    lows: list[Mesh]
    highs: list[Mesh]
    reach: tuple[float, float]
    directions: str | None = None
    settings: dict[str, object] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Mistake:
    """How a unit with a mistake is made, or its twin without; the causes that tell it, and whether settings cure it."""

    name: str
    make: Callable[[Rng, bool], Unit]
    causes: frozenset[str]
    curable: bool
    always: bool = False  # a viewer of the maps' angles alone would not see it
    among_others: bool = False  # it takes other units to be one


def form_of(rng: Rng, *kinds: Callable[[Rng], Form]) -> Form:
    return kinds[rng.integers(len(kinds))](rng)


def detail(rng: Rng, height: float | None = None) -> Callable[[F64], F64]:
    return waves(rng, height or rng.uniform(0.003, 0.008))


def plain(form: Form, high: Mesh, outward: float = 0.04, inward: float = 0.04) -> Unit:
    return Unit([form.low()], [high], (outward, inward))


def piece_of(form: Form, rng: Rng, size: float, off: float, finest: float = 0.15) -> Mesh:
    """A square with relief that floats over a place of a form."""
    patch = form.patches[rng.integers(len(form.patches))]
    half = size / 2
    middle = rng.uniform(0.3, 0.7, 2)

    def part(u: F64, v: F64) -> tuple[F64, F64]:
        return patch(middle[0] + (u - 0.5) * 2 * half, middle[1] + (v - 0.5) * 2 * half)

    relief = added(even(off), waves(rng, 0.1 * finest, finest))
    return soft(bare(sheet_of(part, LINE, LINE, relief)))


# Healthy


def sculpted(rng: Rng) -> Unit:
    """A form with fine relief."""
    form = form_of(rng, *SMOOTH)
    return plain(form, form.high(detail(rng)))


def bevelled(rng: Rng) -> Unit:
    """A machined box: flat sides, narrow bevels, the low hard or chamfered."""
    form = form_of(rng, box, chamfered)
    return plain(form, form.high(even(0.0)), 0.06, 0.1)


def slanted_bevels(rng: Rng) -> Unit:
    """A plate whose panel is raised with sides of five degrees off upright."""
    low = plate(rng)
    height, lean = rng.uniform(0.01, 0.03), np.tan(np.radians(5))
    half = rng.uniform(0.15, 0.3)

    def raised(places: F64) -> F64:
        away = np.abs(places[..., :2]).max(axis=-1) - half
        return np.clip(height - np.maximum(away, 0) / lean, 0, height)

    line = np.unique(
        np.concatenate(
            [np.linspace(0, 1, 21), *(0.5 + s * (half + np.array([-1e-3, 0, height * lean])) for s in (-1, 1))]
        )
    )
    high = soft(bare(sheet_of(flat, line, line, raised)))
    return plain(low, high, 0.06, 0.03)


def bolts_through(rng: Rng) -> Unit:
    """Bolts that run through the plate that they sit on."""
    low = plate(rng)
    floor = low.high(detail(rng, 0.003))
    bolts = []
    for place in somewhere(rng, low, int(rng.integers(1, 5))):
        form = Form("bolt", ball_patches(np.array([1, 1, 0.9])), (8, 8))
        bolts.append(placed(form.high(even(0.0), 30), np.eye(3), rng.uniform(0.06, 0.12), place))
    return plain(low, merge([floor, *bolts], "high"), 0.08, 0.04)


def floating_bolts(rng: Rng) -> Unit:
    """Floaters within the reach, over a sound form."""
    form = form_of(rng, plate, tube)
    pieces = [piece_of(form, rng, rng.uniform(0.1, 0.2), rng.uniform(0.01, 0.02))]
    return plain(form, merge([form.high(detail(rng, 0.003)), *pieces], "high"), 0.06, 0.04)


def nested_shells(rng: Rng) -> Unit:
    """A closed body inside another."""
    form = form_of(rng, ring, ball)
    inner = form.high(added(even(-0.03), detail(rng)))
    return plain(form, merge([form.high(detail(rng)), inner], "high"), 0.04, 0.06)


def copies(rng: Rng) -> Unit:
    """Links that share one place on the sheet, all but one without a sculpt of their own."""
    form = ring(rng)
    low, high = form.low(), form.high(detail(rng))
    others = [placed(low, np.eye(3), 1, np.array([1.2 * n, 0, 0])) for n in range(1, int(rng.integers(2, 4)))]
    return Unit([low, *others], [high], (0.04, 0.04))


def long_triangles(rng: Rng) -> Unit:
    """Staves: a sculpt of few long flat triangles."""
    sides = int(rng.integers(10, 16))
    patch = around_axis(0.4, 1.0)
    line = np.linspace(0, 1, sides + 1)
    high = faceted(bare(sheet_of(patch, line, np.array([0.0, 1.0]), even(0.0))))
    form = Form("staves", (patch,), (sides, 2))
    low = soft(form.low())
    return Unit([low], [high], (0.04, 0.04))


def hand(rng: Rng) -> Unit:
    """A palm and fingers, closed bodies that run into each other."""
    lows, highs = [], []
    count = int(rng.integers(3, 5))
    bodies = [(np.array([0.55, 0.25, 0.6]), np.zeros(3))]
    bodies += [(np.array([0.1, 0.1, 0.55]), np.array([0.16 * (n - (count - 1) / 2), 0, 0.42])) for n in range(count)]
    for n, (stretch, at) in enumerate(bodies):
        form = Form("body", ball_patches(stretch), (6, 6))
        cell = (n % 3 / 3, n // 3 / 3)
        lows.append(laid(placed(form.low(), np.eye(3), 1, at), 0.31, cell))
        highs.append(placed(form.high(waves(rng, 0.002), 60), np.eye(3), 1, at))
    return Unit([merge(lows, "low")], [merge(highs, "high")], (0.012, 0.02))


def lid_over_hollow(rng: Rng) -> Unit:
    """A closed lid over a hollow of the sculpt, which only the lid shows."""
    low = plate(rng)
    hollow = knobs(rng, low, -rng.uniform(0.05, 0.1), 1)
    floor = low.high(added(hollow, detail(rng, 0.002)))
    lid = soft(bare(sheet_of(flat, LINE, LINE, detail(rng, 0.004))))
    return plain(low, merge([floor, placed(lid, np.eye(3), 1, np.array([0, 0, 0.012]))], "high"), 0.04, 0.12)


def textile(rng: Rng) -> Unit:
    """Cloth with two sides, on sculpt and low."""
    drape, thick = waves(rng, 0.05, 0.6), rng.uniform(0.006, 0.012)

    def side(sign: float) -> tuple[Mesh, Mesh]:
        low = sheet_of(flat, np.linspace(0, 1, 17), np.linspace(0, 1, 17), added(drape, even(sign * thick)))
        folds = waves(rng, 0.0015, 0.1)
        high = sheet_of(flat, LINE, LINE, added(drape, even(sign * thick), folds))
        return (low, high) if sign > 0 else (turned_over(low), turned_over(high))

    sides = [side(1), side(-1)]
    lows = [laid(replace(low, normals=None), 0.47, (0.5 * n, 0.2)) for n, (low, _) in enumerate(sides)]
    highs = [bare(replace(high, normals=None)) for _, high in sides]
    return Unit([soft(merge(lows, "low"))], [soft(merge(highs, "high"))], (0.005, 0.005))


def leaves(rng: Rng) -> Unit:
    """Leaves with one side, turned each its own way."""
    lows, highs = [], []
    for n in range(int(rng.integers(2, 5))):
        turn, at = any_turn(rng), np.array([0.7 * n, 0, 0])
        bend = waves(rng, 0.03, 0.8)
        low = sheet_of(flat, np.linspace(0, 1, 7), np.linspace(0, 1, 7), bend)
        low = soft(laid(low, 0.45, (n % 2 / 2, n // 2 / 2)))
        lows.append(placed(low, turn, 0.5, at))
        highs.append(placed(soft(bare(sheet_of(flat, LINE, LINE, added(bend, waves(rng, 0.004))))), turn, 0.5, at))
    return Unit([merge(lows, "low")], [merge(highs, "high")], (0.03, 0.03))


def finer_low(rng: Rng) -> Unit:
    """A low finer than its sculpt."""
    form = form_of(rng, plate, ring, ball)
    low = form.low((48, 48) if len(form.patches) == 1 else (18, 18))
    return Unit([low], [form.high(waves(rng, 0.004, 0.4), 21)], (0.03, 0.03))


def mirrored_halves(rng: Rng, wrong: bool = False) -> Unit:
    """Two halves that share a place on the sheet; wrong where their sculpts differ."""
    turn = np.diag([-1.0, 1.0, 1.0])
    cells = np.linspace(0, 1, int(rng.integers(2, 6)))
    low = laid(sheet_of(flat, cells, cells, even(0.0)), 0.94, (0.03, 0.03))
    relief = waves(rng, 0.012)
    other = waves(rng, 0.012) if wrong else relief
    high, second = (bare(soft(sheet_of(flat, LINE, LINE, each))) for each in (relief, other))
    at = np.array([1.1, 0, 0])
    lows = [placed(low, np.eye(3), 1, at), turned_over(placed(low, turn, 1, -at))]
    highs = [placed(high, np.eye(3), 1, at), turned_over(placed(second, turn, 1, -at))]
    return Unit([merge(lows, "low")], [merge(highs, "high")], (0.04, 0.04))


HEALTHY = (
    sculpted,
    bevelled,
    slanted_bevels,
    bolts_through,
    floating_bolts,
    nested_shells,
    copies,
    long_triangles,
    hand,
    lid_over_hollow,
    textile,
    leaves,
    finer_low,
    mirrored_halves,
)


# Mistakes


def outward_too_short(rng: Rng, wrong: bool) -> Unit:
    form = form_of(rng, *SMOOTH)
    height = rng.uniform(0.05, 0.09)
    high = form.high(added(knobs(rng, form, height, int(rng.integers(1, 4))), detail(rng)))
    return plain(form, high, 0.3 * height if wrong else 1.3 * height)


def inward_too_short(rng: Rng, wrong: bool) -> Unit:
    form = form_of(rng, *SMOOTH)
    depth = rng.uniform(0.05, 0.08)
    high = form.high(added(knobs(rng, form, -depth, int(rng.integers(1, 4))), detail(rng)))
    return plain(form, high, 0.04, 0.3 * depth if wrong else 1.3 * depth)


def floater_beyond(rng: Rng, wrong: bool) -> Unit:
    form = form_of(rng, plate, tube, ring)
    off = rng.uniform(0.025, 0.04)
    floater = piece_of(form, rng, rng.uniform(0.3, 0.5), off, 0.3)
    high = merge([form.high(detail(rng, 0.002)), floater], "high")
    return plain(form, high, 0.5 * off if wrong else 1.4 * off)


def shell_beyond(rng: Rng, wrong: bool) -> Unit:
    """A coat over a body: what one sees lies beyond the reach, what the rays find is under it."""
    form = form_of(rng, plate, tube, ring, ball)
    off = rng.uniform(0.02, 0.03)  # what lies farther off than 3 % of the low is not the same place to the judge
    coat = form.high(added(even(off), waves(rng, 0.012)))
    body = form.high(waves(rng, 0.006))
    return plain(form, merge([body, coat], "high"), 0.5 * off if wrong else off + 0.03)


def reach_too_large(rng: Rng, wrong: bool) -> Unit:
    """Two walls that face each other across a gap which the reach spans."""
    gap = rng.uniform(0.06, 0.15)
    cells = np.linspace(0, 1, int(rng.integers(2, 5)))
    lows, highs = [], []
    faces = ((0.0, 0.0), (np.pi, gap), (np.pi, -0.3 * gap), (0.0, 1.3 * gap))
    for n, (angle, z) in enumerate(faces):
        c, s = np.cos(angle), np.sin(angle)
        turn, at = np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]), np.array([0, 0, z])
        low = laid(sheet_of(flat, cells, cells, even(0.0)), 0.45, (n % 2 / 2 + 0.02, n // 2 / 2 + 0.02))
        lows.append(placed(low, turn, 1, at))
        highs.append(placed(bare(soft(sheet_of(flat, LINE, LINE, waves(rng, 0.006)))), turn, 1, at))
    outward = 2.5 * gap if wrong else 0.3 * gap
    return Unit([merge(lows, "low")], [merge(highs, "high")], (outward, 0.1 * gap))


def neighbour_near(rng: Rng, wrong: bool) -> Unit:
    """A smaller part over a larger one, both in one pair, within reach."""
    gap, size = rng.uniform(0.08, 0.16), rng.uniform(0.3, 0.5)
    cells = np.linspace(0, 1, int(rng.integers(2, 5)))
    floor = laid(sheet_of(flat, cells, cells, even(0.0)), 0.6, (0.0, 0.0))
    lid = laid(sheet_of(flat, cells, cells, even(0.0)), 0.34, (0.64, 0.64))
    at = np.array([*rng.uniform(-0.2, 0.2, 2), gap])
    ground, cover = (bare(soft(sheet_of(flat, LINE, LINE, waves(rng, 0.006 / s, 0.12 / s)))) for s in (1, size))
    lows = [named(floor, "floor"), named(placed(lid, np.eye(3), size, at), "lid")]
    highs = [named(ground, "floor"), named(placed(cover, np.eye(3), size, at), "lid")]
    return Unit(lows, highs, (1.5 * gap if wrong else 0.4 * gap, 0.3 * gap))


def islands_overlap(rng: Rng, wrong: bool) -> Unit:
    """Two parts whose islands lie on each other, moved or turned a little."""
    cells = np.linspace(0, 1, int(rng.integers(2, 6)))
    lows, highs = [], []
    shift = rng.uniform(0.0, 0.2, 2)
    for n in range(2):
        at = np.array([1.15 * n, 0, 0])
        corner = (0.02, 0.02) if n == 0 else (0.04 + shift[0], 0.05 + shift[1]) if wrong else (0.52, 0.52)
        lows.append(placed(laid(sheet_of(flat, cells, cells, even(0.0)), 0.45, corner), np.eye(3), 1, at))
        highs.append(placed(bare(soft(sheet_of(flat, LINE, LINE, waves(rng, 0.012)))), np.eye(3), 1, at))
    return Unit(lows, highs, (0.04, 0.04))


def folded_uvs(rng: Rng, wrong: bool) -> Unit:
    """An island folded over on itself along a line."""
    count = int(rng.integers(5, 9))
    cells = np.linspace(0, 1, count)
    low = sheet_of(flat, cells, cells, even(0.0))
    fold = cells[-2]
    uvs = low.uvs[0].at_corners().copy()
    if wrong:
        uvs[..., 0] = np.where(uvs[..., 0] > fold + 1e-4, 2 * fold - uvs[..., 0], uvs[..., 0])
    low = laid(replace(low, uvs=(values_at_corners(uvs),)), 0.94, (0.03, 0.03))
    high = bare(soft(sheet_of(flat, LINE, LINE, waves(rng, 0.015))))
    return Unit([low], [high], (0.05, 0.05))


def leaning(rng: Rng, wrong: bool) -> Unit:
    """Detail that stands off a box whose rays lean toward its corners, hard or chamfered."""
    hard = rng.random() < 0.6
    size, off = rng.uniform(0.7, 1, 3), rng.uniform(0.03, 0.05)
    grown = box_patches(size, 0.0 if hard else 0.04)
    line = np.array([0.0, 0.07, 0.93, 1.0])
    steps = (int(rng.integers(1, 3)),) * 2
    form = Form("box", grown, steps, hard=hard, breaks=None if hard else line)
    whole, sides = size + 2 * off, []
    for patch in box_patches(whole, 0.0):
        relief = waves(rng, 0.02, 0.25)

        def fading(places: F64, relief: Relief = relief) -> F64:  # so that the sides meet
            to_edge = 1 - np.sort(np.abs(places) / (whole / 2), axis=-1)[..., 1]
            return np.clip(to_edge / 0.08, 0, 1) * relief(places)

        sides.append(bare(soft(sheet_of(patch, LINE, LINE, fading))))
    unit = Unit([form.low()], [merge(sides, "high")], (4 * off, 0.02))
    return unit if wrong else replace(unit, settings={"straighten": True})


def hard_without_seam(rng: Rng, wrong: bool) -> Unit:
    """Folds with hard edges inside one island, under a sculpt with rounded folds."""
    count = int(rng.integers(3, 6))
    line = np.linspace(0, 1, count + 1)
    height = rng.uniform(0.12, 0.2)

    def fold(at: F64) -> F64:
        return height * np.abs((at * count / 2) % 1 - 0.5) * 2 / count * 2

    soft_width = 0.02

    def patch(u: F64, v: F64) -> tuple[F64, F64]:
        places = np.stack([u - 0.5, v - 0.5, fold(u)], -1)
        return places, np.broadcast_to(np.array([0.0, 0.0, 1.0]), places.shape)

    def rounded(u: F64, v: F64) -> tuple[F64, F64]:
        z = np.mean([fold(np.clip(u + w, 0, 1)) for w in np.linspace(-soft_width, soft_width, 9)], axis=0)
        places = np.stack([u - 0.5, v - 0.5, z], -1)
        return places, np.broadcast_to(np.array([0.0, 0.0, 1.0]), places.shape)

    low = laid(sheet_of(patch, line, np.linspace(0, 1, 3), even(0.0)), 0.94, (0.03, 0.03))
    low = faceted(low) if wrong else soft(low)
    fine = np.linspace(0, 1, 121)
    return Unit([low], [soft(bare(sheet_of(rounded, fine, LINE, even(0.0))))], (0.05, 0.05))


def seam_breaks(rng: Rng, wrong: bool) -> Unit:
    """Rays that part at the hard edges of a box whose sculpt is rounded there: both sides draw the whole rounding."""
    size = rng.uniform(0.6, 1, 3)
    fine = box_patches(size, rng.uniform(0.08, 0.14))
    form = Form("box", box_patches(size, 0.0), (2, 2), hard=True, fine=fine)
    high = form.high(detail(rng, 0.002))
    return Unit([form.low()], [high], (0.03, 0.15), directions="split" if wrong else None)


def hole(rng: Rng, wrong: bool) -> Unit:
    """A hole in the sculpt, nothing behind it."""
    form = form_of(rng, *SMOOTH)
    high = form.high(detail(rng))
    (place,) = somewhere(rng, form, 1)
    away = np.linalg.norm(high.positions[high.triangles].mean(axis=1) - place, axis=1)
    return plain(form, without(high, away < rng.uniform(0.1, 0.16)) if wrong else high)


def ends_early(rng: Rng, wrong: bool) -> Unit:
    """A sculpt that ends before its low does: an open border."""
    form = form_of(rng, plate, tube)
    high = form.high(detail(rng))
    middle = high.positions[high.triangles].mean(axis=1)
    axis = 0 if form.name == "plate" else 2
    end = np.quantile(middle[:, axis], rng.uniform(0.8, 0.9))
    return plain(form, without(high, middle[:, axis] > end) if wrong else high)


def without(mesh: Mesh, gone: F64) -> Mesh:
    kept = ~gone.astype(bool)
    normals = replace(mesh.normals, corners=mesh.normals.corners[kept]) if mesh.normals else None
    return replace(
        mesh,
        triangles=mesh.triangles[kept],
        normals=normals,
        objects=mesh.objects[kept],
        materials=mesh.materials[kept],
    )


def sculpt_inside_out(rng: Rng, wrong: bool) -> Unit:
    form = form_of(rng, *SMOOTH)
    high = form.high(detail(rng))
    return plain(form, turned_over(high) if wrong else high)


def low_inside_out(rng: Rng, wrong: bool) -> Unit:
    form = form_of(rng, *SMOOTH)
    unit = plain(form, form.high(detail(rng)))
    return replace(unit, lows=[turned_over(unit.lows[0])]) if wrong else unit


def sculpt_faceted(rng: Rng, wrong: bool) -> Unit:
    form = form_of(rng, tube, ring, ball)
    high = form.high(even(0.0), 45)
    return plain(form, faceted(high) if wrong else high)


def too_few_sides(rng: Rng, wrong: bool) -> Unit:
    """A round form of few sides: its outline shows corners."""
    sides = int(rng.integers(5, 9)) if wrong else 40
    form = Form("tube", (around_axis(rng.uniform(0.3, 0.45), rng.uniform(0.6, 1)),), (sides, 2))
    return plain(form, form.high(detail(rng, 0.003), 120), 0.15, 0.08)


def wrong_name(rng: Rng, wrong: bool) -> Unit:
    unit = sculpted(rng)
    return replace(unit, settings={"misspelt": True}) if wrong else unit


def shade(rng: Rng, wrong: bool) -> Unit:
    """A wall close to the floor; wrong where it is another pair that shades it."""
    cells = np.linspace(0, 1, 3)
    floor = laid(sheet_of(flat, cells, cells, even(0.0)), 0.45, (0.02, 0.02))
    wall = laid(sheet_of(flat, cells, cells, even(0.0)), 0.45, (0.52, 0.52))
    c = rng.uniform(0.02, 0.06)
    turn = np.array([[0, 0, 1.0], [1, 0, 0], [0, 1, 0]])
    at = np.array([-0.5 - 0.01, 0, 0.5 + c])
    high = [bare(soft(sheet_of(flat, LINE, LINE, waves(rng, 0.003)))) for _ in range(2)]
    lows = [named(floor, "floor"), named(placed(wall, turn, 1, at), "wall")]
    highs = [named(high[0], "floor"), named(placed(high[1], turn, 1, at), "wall")]
    return Unit(lows, highs, (0.01, 0.02), settings={"shaded": wrong})


def cracked_sculpt(rng: Rng, wrong: bool) -> Unit:
    """A sculpt whose halves nearly meet: rays slip through, and nothing lies behind."""
    form = form_of(rng, plate, tube)
    high = form.high(detail(rng))
    if wrong:
        loose = merge([high], "high")
        middle = loose.positions[loose.triangles].mean(axis=1)
        axis = 0 if form.name == "plate" else 2
        cut = np.quantile(middle[:, axis], rng.uniform(0.35, 0.65))
        one, other = without(loose, middle[:, axis] > cut), without(loose, middle[:, axis] <= cut)
        gap = np.zeros(3)
        gap[axis] = rng.uniform(0.004, 0.01)
        other = placed(other, np.eye(3), 1, gap)
        high = merge([one, other], "high")
    return plain(form, high)


def mistake(name: str, make: Callable[[Rng, bool], Unit], causes: str, curable: bool, always: bool = False) -> Mistake:
    return Mistake(name, make, frozenset(causes.split()), curable, always)


MISTAKES = (
    mistake("outward reach too short", outward_too_short, "outside missed", True),
    mistake("inward reach too short", inward_too_short, "outside missed", True),
    mistake("floater beyond the reach", floater_beyond, "outside", True),
    mistake("shell beyond the reach", shell_beyond, "outside", True),
    mistake("reach through a gap", reach_too_large, "other farther", True),
    mistake("neighbour within reach", neighbour_near, "other farther", True),
    mistake("islands overlap", islands_overlap, "overlap", False),
    mistake("mirrored halves differ", mirrored_halves, "overlap", False),
    mistake("folded UVs", folded_uvs, "folded", False),
    mistake("detail leans", leaning, "leaning", True),
    mistake("hard edge without a seam", hard_without_seam, "hard_edge", True),
    mistake("seam breaks", seam_breaks, "parting seam", True),
    mistake("hole in the sculpt", hole, "missed", False),
    mistake("sculpt ends early", ends_early, "missed", False),
    mistake("sculpt inside out", sculpt_inside_out, "back", True),
    mistake("low inside out", low_inside_out, "back", True),
    mistake("sculpt faceted", sculpt_faceted, "faceted", True, True),
    mistake("too few sides", too_few_sides, "wavy", False, True),
    replace(mistake("misspelt name", wrong_name, "alone", True, True), among_others=True),
    mistake("shade of a neighbour", shade, "neighbour", True, True),
    mistake("cracked sculpt", cracked_sculpt, "missed cracked", False),
)
