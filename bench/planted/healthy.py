"""Healthy units, of kinds that tools are known to cry over: what the list of flaws says of them is false."""

from dataclasses import replace

import numpy as np

from inkwell_cast.core.mesh.mesh import Mesh, merge

from .forms import (
    F64,
    SMOOTH,
    Form,
    Rng,
    added,
    any_turn,
    around_axis,
    ball,
    ball_patches,
    bare,
    box,
    chamfered,
    even,
    faceted,
    flat,
    knobs,
    laid,
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
from .units import LINE, Unit, detail, form_of, piece_of, plain


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
