"""What of a region is noticed."""

from types import SimpleNamespace

import numpy as np
import pytest

from inkwell_cast.core import flaws
from inkwell_cast.core.flaws.flaw import FlawRows
from inkwell_cast.core.flaws.noticed import eye_of
from inkwell_cast.core.flaws.visible import RowsSeen, contrast


@pytest.mark.parametrize(("turned", "told"), [(11.0, False), (14.0, True)])
def test_a_patch_of_a_visible_size_that_turns_light_by_a_fifth_is_never_harmless(turned, told):
    """It adds less than what is told else: 14° over 1.6 of 10,000 pixels is 0.0022°."""
    pixels, total = np.full(40, 4.0), 1e6
    looks = RowsSeen(np.full(40, turned), np.full(40, turned), turned * pixels / total, pixels)
    seen = SimpleNamespace(looks=looks, struck=np.ones(40), visible=SimpleNamespace(total=total))
    assert flaws._is_seen(seen, FlawRows(np.arange(40), None), np.arange(40), 1) is told
    np.testing.assert_allclose(contrast(np.array([-3.0, 0.0, 30.0, 120.0])), [0, 0, 0.5, 1])


def head(facing: float = 1.0) -> SimpleNamespace:
    """Rows of a unit ball that is smooth but for a face full of ripples toward +z; the whole is smooth with 0."""
    random = np.random.default_rng(4)
    way = random.normal(size=(6000, 3))
    way /= np.linalg.norm(way, axis=1)[:, None]
    rippled = way + 0.8 * facing * (way[:, 2:] > 0.7) * np.sin(40 * way)
    cast = SimpleNamespace(normal=rippled[None].astype(np.float32))
    looks = SimpleNamespace(excess=np.zeros(6000), pixels=np.ones(6000))
    low = SimpleNamespace(diagonal=2 * np.sqrt(3))
    context = SimpleNamespace(cast=cast, assembly=SimpleNamespace(low=low))
    x, y = np.arange(6000), np.zeros(6000, int)
    return SimpleNamespace(context=context, x=x, y=y, struck=np.ones(6000), looks=looks, place=way, normal=way)


def test_a_flaw_in_a_face_full_of_detail_is_noticed_before_a_like_one_on_a_smooth_back():
    eye = eye_of(head())
    front, back = np.array([[0.0, 0, 1]]), np.array([[0.0, 0, -1]])
    assert eye.front @ front[0] > 0.2
    assert eye.draws(front, front[0]) > 2 * eye.draws(back, back[0])
    like = SimpleNamespace(share=0.01)
    on_front, on_back = (flaws.MarkedFlaw(like, None, None, eye=eye.draws(at, at[0])) for at in (front, back))
    assert on_front.noticed > on_back.noticed


def test_on_a_piece_that_is_alike_all_around_no_side_comes_first():
    eye = eye_of(head(0.0))
    sides = [eye.draws(at[None], at) for at in np.concatenate([np.eye(3), -np.eye(3)])]
    np.testing.assert_allclose(sides, 1.0, atol=0.15)


def test_of_what_has_no_healthy_texel_no_place_is_preferred():
    seen = head()
    seen.struck[:] = 0
    assert eye_of(seen).draws(np.zeros((1, 3)), np.array([0.0, 0, 1])) == 1.0
