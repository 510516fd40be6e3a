import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from inkwell_cast.core.uv.padding import nearest_covered, pad
from inkwell_cast.core.uv.rasterise import TILE, barycentrics, fill_tile, grid, texel_barycentrics


def owners(uvs, width, height, samples):
    """The triangle of every sample of a sheet, and how many samples were contested."""
    g = grid(np.asarray(uvs, np.float32), width, height, samples)
    out = np.full((height * g.side, width * g.side), -1, np.int32)
    contested = 0
    for tile in g.busy_tiles:
        x0, y0 = tile % g.tiles_across * TILE, tile // g.tiles_across * TILE
        w, h = min(TILE, width - x0), min(TILE, height - y0)
        part = np.empty((h * g.side, w * g.side), np.int32)
        listed = g.listed[g.starts[tile] : g.starts[tile + 1]]
        contested += fill_tile(part, x0 * g.side, y0 * g.side, g.side, g.shift, g.corners, listed)
        out[y0 * g.side :, x0 * g.side :][: part.shape[0], : part.shape[1]] = part
    return out, contested


def test_two_halves_of_a_square_share_every_sample_between_them():
    square = [[(0, 0), (1, 0), (1, 1)], [(0, 0), (1, 1), (0, 1)]]
    found, contested = owners(square, 64, 48, 1)
    assert contested == 0
    assert (found >= 0).all()


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([1, 4, 16]), st.booleans())
def test_a_fan_covers_each_sample_exactly_once(seed, samples, turned):
    random = np.random.default_rng(seed)
    middle = random.random(2) * 0.8 + 0.1
    rim = [(0, 0), (1, 0), (1, 1), (0, 1)]
    fan = [[tuple(middle), rim[k], rim[(k + 1) % 4]] for k in range(4)]
    if turned:
        fan = [triangle[::-1] for triangle in fan]
    found, contested = owners(fan, 37, 53, samples)
    assert contested == 0
    assert (found >= 0).all()


def test_samples_on_an_edge_follow_the_top_left_rule():
    # the vertical edge u = 0.5 of a sheet 3 texels wide runs through the middle column's centres
    left = [[(0, 0), (0.5, 0), (0.5, 1)], [(0, 0), (0.5, 1), (0, 1)]]
    right = [[(0.5, 0), (1, 0), (1, 1)], [(0.5, 0), (1, 1), (0.5, 1)]]
    found, contested = owners(left + right, 3, 16, 1)
    assert contested == 0
    assert set(found[:, 1]) <= {2, 3}  # a left edge owns its samples


def test_overlaps_go_to_the_lowest_triangle_and_are_counted():
    low, high = [(0, 0), (1, 0), (0, 1)], [(0, 0), (1, 0), (1, 1)]
    found, contested = owners([low, high], 32, 32, 1)
    alone = (owners([low], 32, 32, 1)[0] == 0).sum()
    assert (found == 0).sum() == alone
    both = alone + (owners([high], 32, 32, 1)[0] == 0).sum() - (found >= 0).sum()
    assert contested == both > 0


def test_samples_agree_with_exact_areas():
    triangle = [[(0.11, 0.07), (0.93, 0.31), (0.42, 0.88)]]
    found, _ = owners(triangle, 256, 256, 16)
    (ax, ay), (bx, by), (cx, cy) = triangle[0]
    area = ((bx - ax) * (cy - ay) - (by - ay) * (cx - ax)) / 2
    assert (found == 0).mean() == pytest.approx(area, rel=2e-3)


def test_triangles_off_the_tile_are_counted_and_left_out():
    g = grid(
        np.array([[(0, 0), (1, 0), (1, 1)], [(1.2, 0), (1.9, 0), (1.9, 1)], [(50, 0), (51, 0), (51, 1)]]), 64, 64, 1
    )
    assert g.outside == 2
    assert set(g.listed.tolist()) == {0}


def test_barycentrics_give_back_the_place():
    uvs = np.array([[(0.1, 0.2), (0.9, 0.25), (0.4, 0.8)]], np.float32)
    g = grid(uvs, 64, 32, 4)
    x, y = (20 * g.side) << g.shift, (15 * g.side) << g.shift
    b = np.array(barycentrics(g.corners, 0, x, y))
    assert b.sum() == pytest.approx(1)
    np.testing.assert_allclose(b @ uvs[0], [20 / 64, 1 - 15 / 32], atol=1e-5)


def test_a_texel_whose_centre_is_off_the_island_uses_its_sample():
    g = grid(np.array([[(0, 0), (0.26, 0), (0, 1)]], np.float32), 2, 2, 16)
    b = texel_barycentrics(0, 0, 1, 12, g.record)
    assert min(b) >= 0


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 60), st.integers(1, 60), st.floats(0.001, 0.4))
def test_padding_finds_the_nearest_texel_exactly(seed, width, height, share):
    covered = (np.random.default_rng(seed).random((height, width)) < share).astype(np.uint8)
    found = nearest_covered(covered, width + height)
    if not covered.any():
        assert (found == -1).all()
        return
    exact = ndimage.distance_transform_edt(covered == 0)
    y, x = np.divmod(found, width)
    rows, columns = np.mgrid[:height, :width]
    assert covered[y, x].all()
    np.testing.assert_allclose(np.hypot(y - rows, x - columns), exact, atol=1e-9)


def test_padding_stops_at_its_reach_and_never_touches_an_island():
    covered = np.zeros((9, 21), np.uint8)
    covered[4, 4], covered[4, 16] = 1, 1
    image = np.zeros((9, 21, 1), np.float32)
    image[4, 4], image[4, 16] = 1, 2
    source = nearest_covered(covered, 3)
    pad(image, source)
    assert image[4, 4, 0] == 1
    assert image[4, 16, 0] == 2
    rows, columns = np.mgrid[:9, :21]
    np.testing.assert_array_equal(image[..., 0] == 1, np.hypot(rows - 4, columns - 4) <= 3)
    np.testing.assert_array_equal(image[..., 0] == 2, np.hypot(rows - 4, columns - 16) <= 3)
