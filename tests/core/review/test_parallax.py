"""Parallax: the floor of any map at all, in closed form, and where the low needs triangles."""

from dataclasses import replace

import numpy as np
import pytest

from inkwell_cast.core.review.parallax import parallax
from inkwell_cast.core.review.pictures_around import APART, directions

from ...shapes import grid_mesh, plane, torus
from ..bakes import baked

HEIGHT, WIDE = 0.03, 0.25  # of a cap of a ball that stands on a plane, and how far it reaches around its middle
RADIUS = (WIDE**2 + HEIGHT**2) / (2 * HEIGHT)


def of(made):
    return parallax([sheet.context for sheet in made.sheets], made.judgement().best_pictures)


def cap(u, v):
    """Points and normals of the plane with the cap in its middle."""
    x, y = u - 0.5, v - 0.5
    on = np.hypot(x, y) < WIDE
    z = np.where(on, np.sqrt(np.maximum(RADIUS**2 - x**2 - y**2, 0)) - (RADIUS - HEIGHT), 0)
    normal = np.where(on, np.stack([x, y, z + RADIUS - HEIGHT]) / RADIUS, np.stack([0 * x, 0 * x, 0 * x + 1]))
    return (u, v, z), normal


def integrated(texels, within=2):
    """The mean parallax of the flat plane under the cap, by the lattice's directions and places within each texel.

    The best map has the normal right above every place, and what those seen from aside differ from it in the mean.
    """
    steps = (np.arange(texels * within) + 0.5) / (texels * within)
    p = np.stack([*np.meshgrid(steps, steps, indexing="ij"), np.zeros((texels * within,) * 2)], axis=-1)
    total, weights, normals, each = np.zeros((texels, texels, 3)), np.zeros((texels, texels)), [], []
    middle, above = np.array([0.5, 0.5, HEIGHT - RADIUS]), np.moveaxis(cap(p[..., 0], p[..., 1])[1], 0, -1)
    for toward in directions(32):
        if toward[2] <= 0:
            continue
        right = np.cross(toward, [0, 0, 1.0] if abs(toward[2]) < 0.9 else [1.0, 0, 0])
        right /= np.linalg.norm(right)
        corner = np.array([0.5, 0.5, HEIGHT / 2])
        half = max(np.abs(right) @ corner, np.abs(np.cross(right, toward)) @ corner)
        along = (p - middle) @ toward
        root = along**2 - (((p - middle) ** 2).sum(axis=-1) - RADIUS**2)
        s = -along + np.sqrt(np.maximum(root, 0))
        hit = p + s[..., None] * toward
        on = (root > 0) & (s > 0) & (hit[..., 2] > 0)
        normal = np.where(on[..., None], (hit - middle) / RADIUS, [0, 0, 1.0])
        weight = np.where(on & (s > APART * 2**0.5), 0, toward[2] / half**2)
        weight = np.where(~on & (np.hypot(*(p - 0.5)[..., :2].transpose(2, 0, 1)) < WIDE), 0, weight)
        by_texel = weight.reshape(texels, within, texels, within)
        apart = (normal - above) * weight[..., None]
        total += apart.reshape(texels, within, texels, within, 3).sum(axis=(1, 3))
        weights += by_texel.sum(axis=(1, 3))
        normals.append(normal)
        each.append(weight)
    mean = total / np.maximum(weights, 1e-30)[..., None]
    best = above + mean.repeat(within, axis=0).repeat(within, axis=1)
    best /= np.linalg.norm(best, axis=-1, keepdims=True)
    angles = [np.degrees(np.arccos(np.clip((normal * best).sum(axis=-1), -1, 1))) for normal in normals]
    return sum((a * w).sum() for a, w in zip(angles, each, strict=True)) / weights.sum()


def test_a_plane_under_the_cap_of_a_ball_reads_the_parallax_that_integration_gives():
    """What texels blur along the cap's rim falls with their size: the figure for ever smaller ones is compared."""
    high = replace(grid_mesh(256, 256, lambda u, v: cap(u, v)[0], "high", normal=lambda u, v: cap(u, v)[1]), uvs=())
    rough, fine = (of(baked(plane(2), high, ["normal"], size=n, outward=0.1, inward=0.1)).mean for n in (64, 256))
    assert fine + (fine - rough) / 3 == pytest.approx(integrated(256), rel=0.05)


def test_an_equal_low_has_none_and_needs_no_triangles():
    low = torus(64, 32)
    found = of(baked(low, replace(torus(64, 32, name="high"), uvs=()), ["normal"], size=512))
    assert found.mean < 0.1
    assert found.places == []


def test_a_coarse_low_needs_triangles_where_the_sculpt_stands_off():
    """Steep waves on a flat low: its two faces show other places to other directions."""
    rough = grid_mesh(
        200, 200, lambda u, v: (u, v, 0.03 * np.abs(np.sin(12 * np.pi * u)) * np.abs(np.sin(12 * np.pi * v))), "high"
    )
    made = baked(plane(1), replace(rough, uvs=()), ["normal"], size=128, outward=0.1, inward=0.1)
    found = of(made)
    (place,) = found.places
    assert place.cause == "triangles"
    assert place.error > 8
    assert "show other places of the sculpt" in place.what
    # about a floor: of all directions the mean one is nearest by squares, not by angles
    assert found.mean < 1.06 * made.judgement().seen.whole.mean
    assert place.share == pytest.approx(found.mean, rel=0.05)
