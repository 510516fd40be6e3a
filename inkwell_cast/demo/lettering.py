"""Letters drawn with a round graver: each is a few strokes in a box 4 wide and 6 high."""

from itertools import pairwise

import numpy as np

from ..core.base.array_types import F64

STROKES: dict[str, list[list[tuple[float, float]]]] = {
    "N": [[(0, 0), (0, 6), (4, 0), (4, 6)]],
    "I": [[(2, 0), (2, 6)], [(1.1, 0), (2.9, 0)], [(1.1, 6), (2.9, 6)]],
    "G": [[(4, 5), (3, 6), (1.4, 6), (0, 4.6), (0, 1.4), (1.4, 0), (3, 0), (4, 1), (4, 2.8), (2.4, 2.8)]],
    "H": [[(0, 0), (0, 6)], [(4, 0), (4, 6)], [(0, 3), (4, 3)]],
    "T": [[(2, 0), (2, 6)], [(0, 6), (4, 6)]],
    "F": [[(0, 0), (0, 6), (3.8, 6)], [(0, 3.2), (2.8, 3.2)]],
    "E": [[(3.8, 0), (0, 0), (0, 6), (3.8, 6)], [(0, 3.1), (2.9, 3.1)]],
    "R": [[(0, 0), (0, 6), (2.8, 6), (3.9, 5.2), (3.9, 4), (2.8, 3.1), (0, 3.1)], [(2.2, 3.1), (4, 0)]],
    "Y": [[(0, 6), (2, 3.1), (4, 6)], [(2, 3.1), (2, 0)]],
    "Q": [
        [(1.4, 0), (0, 1.4), (0, 4.6), (1.4, 6), (2.6, 6), (4, 4.6), (4, 1.4), (2.6, 0), (1.4, 0)],
        [(2.4, 1.6), (4, 0)],
    ],
    "U": [[(0, 6), (0, 1.4), (1.4, 0), (2.6, 0), (4, 1.4), (4, 6)]],
    "L": [[(0, 6), (0, 0), (3.6, 0)]],
    "A": [[(0, 0), (2, 6), (4, 0)], [(0.7, 2), (3.3, 2)]],
    "V": [[(0, 6), (2, 0), (4, 6)]],
    " ": [],
}


def strokes_of(text: str, height: float) -> F64:
    """Segments (S, 2, 2) of a line of text centred on the origin."""
    scale = height / 6
    advance = 5.7
    width = advance * len(text) - 1.7
    segments = []
    for n, letter in enumerate(text):
        for stroke in STROKES[letter]:
            points = (np.array(stroke) + np.array([advance * n - width / 2, -3])) * scale
            segments += list(pairwise(points))
    return np.array(segments)


def distance_to(segments: F64, x: F64, y: F64) -> F64:
    """Distance of each place to the nearest segment."""
    best = np.full(x.shape, np.inf)
    for (ax, ay), (bx, by) in segments:
        dx, dy = bx - ax, by - ay
        t = np.clip(((x - ax) * dx + (y - ay) * dy) / (dx * dx + dy * dy), 0, 1)
        best = np.minimum(best, np.hypot(x - ax - t * dx, y - ay - t * dy))
    return best
