"""A field that moves otherwise than its kind of motion can: the error that is said is the true one, and it is told."""

import numpy as np
import pytest

from lock_plates import box_mask, corner_errors, flat_plates
from zonal_mantle.lock import solve_plane, solve_staying
from zonal_mantle.lock.spread import STANDS_OUT, beyond_noise
from zonal_mantle.shot import Lock

SIZE, BOX = (480, 270), (120, 60, 360, 210)


def solved(solve, plates, motion):
    lock = Lock(id="a", name="Field", kind="plane", reference_frame=0, motion=motion)
    mask = box_mask(SIZE, BOX)
    return solve(lock, plates.frames.__getitem__, mask, lambda frame: None, range(len(plates.frames)))


@pytest.mark.parametrize("solve", [solve_plane, solve_staying], ids=["rides", "stays"])
@pytest.mark.parametrize("motion", ["translation", "similarity", "affine"])
def test_what_a_simpler_motion_cannot_follow_is_in_its_error(solve, motion):
    """A camera that turns, nears and tilts: said within 0.67 to 1.5 of the truth; it was 0.04 to 0.5 of it."""
    plates = flat_plates("camera", 53, SIZE, 7, grain=0.01, shutter=0.0, speed=1.5)
    lock = solved(solve, plates, motion)
    off, said = np.array(
        [
            (corner_errors(np.reshape(e.homography, (3, 3)), plates.truth[e.frame], BOX), e.residual_px)
            for e in lock.solved[1:]
        ]
    ).T
    assert len(off) == 6
    assert off.max() > 0.15
    assert 0.67 < np.sqrt((said**2).mean() / (off**2).mean()) < 1.5
    told = [words for words in lock.remarks if "fuller motion" in words]
    assert bool(told) == (said.max() > 0.5)


@pytest.mark.parametrize("solve", [solve_plane, solve_staying], ids=["rides", "stays"])
def test_nothing_is_held_against_a_motion_that_is_simple(solve):
    from skimage import data

    picture = np.float32(data.camera() / 255)
    rng, frames = np.random.default_rng(5), []
    for k in range(6):
        x, y = 3 * k, 2 * k
        frames.append(np.float32(picture[80 + y : 350 + y, 10 + x : 490 + x] + rng.normal(0, 0.02, SIZE[::-1])))
    lock = Lock(id="a", name="Field", kind="plane", reference_frame=0, motion="translation")
    lock = solve(lock, frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(6))
    assert len(lock.solved) == 6
    assert max(entry.residual_px for entry in lock.solved) < 0.08
    assert lock.remarks == ()


def test_what_lies_within_noise_does_not_stand_out():
    """Of normal noise the share within two deviations is 0.954 (handbook value)."""
    rng = np.random.default_rng(1)
    root = rng.normal(0, 1, (8, 8))
    draws = rng.normal(0, 1, (4000, 8)) @ root.T
    off = np.array([beyond_noise(each.reshape(4, 2), root @ root.T) for each in draws])
    quiet = 0.954**8
    assert STANDS_OUT == 2.0
    assert np.mean(off == 0) == pytest.approx(quiet, abs=0.03)


def test_what_stands_out_is_told_without_its_noise():
    apart = np.tile([3.0, 4.0], (4, 1))
    assert beyond_noise(apart, np.zeros((8, 8))) == pytest.approx(5.0)
    assert beyond_noise(apart, np.eye(8)) == pytest.approx(np.sqrt(25 - 2), abs=0.26)
