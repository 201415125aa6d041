"""What is wrong with a plate is named: cuts, doubled frames, interlacing."""

from functools import cache

import numpy as np
import pytest

from lock_plates import flat_plates
from zonal_mantle.lock import remarks_on
from zonal_mantle.lock.check import is_cut, is_duplicate, is_interlaced


@cache
def wall():
    return flat_plates("brick", 2, (480, 270), count=4, speed=1.5).frames


@cache
def cup():
    return flat_plates("coffee", 3, (480, 270), count=1).frames[0]


def test_a_moving_camera_is_no_cut_and_another_scene_is():
    assert not is_cut(wall()[0], wall()[1])
    assert not is_cut(wall()[0], wall()[0] * 0.7 + 0.1)
    assert is_cut(wall()[0], cup())


def test_fields_of_different_times_are_told_from_a_steady_frame():
    combed = cup().copy()
    combed[1::2] = np.roll(combed[1::2], 9, axis=1)
    assert is_interlaced(combed)
    for frame in (cup(), wall()[2]):
        assert not is_interlaced(frame)


@pytest.mark.parametrize("grain", [0.01, 0.03])
def test_grain_before_what_is_even_is_not_taken_for_fields_of_different_times(grain):
    even = np.full((270, 480), 0.3, np.float32)
    even[:, 400:] = 0.7
    noisy = (even + np.random.default_rng(1).normal(0, grain, even.shape)).astype(np.float32)
    assert not is_interlaced(noisy)
    combed = noisy.copy()
    combed[1::2, 380:420] = np.roll(noisy[1::2, 380:420], 12, axis=1)
    combed[1::2, 40:] = combed[1::2, :-40]
    assert is_interlaced(combed)


def test_doubled_frames_are_named():
    a, b, c, _ = wall()
    assert is_duplicate(b, b.copy())
    assert not is_duplicate(a, b)
    words = remarks_on({11: a, 12: b, 13: b.copy(), 14: c, 15: c.copy()})
    assert len(words) == 1
    assert "13, 15" in words[0]
    assert remarks_on({1: a, 2: b}) == ()
