"""Mistakes that artists make, each with a twin that is as it should be."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from inkwell_cast.core.mesh.mesh import Mesh, merge, values_at_corners

from .forms import (
    F64,
    SMOOTH,
    Form,
    Relief,
    Rng,
    added,
    around_axis,
    ball,
    bare,
    box_patches,
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
from .healthy import mirrored_halves, sculpted
from .units import LINE, Mistake, Unit, detail, form_of, piece_of, plain


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
