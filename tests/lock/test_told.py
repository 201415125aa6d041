"""Ways of moving that a picture does not tell: they are left alone, and what is said of them is not what noise says."""

import numpy as np
import pytest
from scipy import ndimage

from zonal_mantle.lock import Area, pyramid, solve_staying
from zonal_mantle.lock.told import LEAST_POWER
from zonal_mantle.shot import Lock

SIZE = (320, 200)
MASK = np.zeros(SIZE[::-1], np.float32)
MASK[8:-8, 8:-8] = 1


def stripes(seed: int, grain: float, shift: tuple[float, float] = (0.0, 0.0)) -> np.ndarray:
    """Stripes that change across the frame and not along it, moved by a shift, with grain."""
    x = np.arange(SIZE[0]) - shift[0]
    row = 0.5 + 0.2 * np.sin(x / 7) + 0.15 * np.sin(x / 12.3 + 1) + 0.1 * np.sin(x / 31)
    return np.float32(row[None] + np.random.default_rng(seed).normal(0, grain, SIZE[::-1]))


@pytest.mark.parametrize("grain", [0.01, 0.03])
def test_along_stripes_nothing_is_told_and_nothing_moves(grain):
    area = Area(pyramid(stripes(1, grain), 4), MASK)
    fit = area.find(pyramid(stripes(2, grain, (1.5, 0)), 4), np.eye(3), "translation")
    assert abs(fit.homography[0, 2] - 1.5) < 0.05
    assert abs(fit.homography[1, 2]) < 0.05  # as it was guessed: the noise of two frames is not followed
    assert fit.firm_px < 0.1
    assert fit.uncertainty_px > 20


def test_the_power_of_ways_that_are_not_told_is_that_of_noise():
    """One, by definition of the unit: the slopes of white noise against themselves (Fuller 1987, section 2.2)."""
    area = Area(pyramid(stripes(1, 0.02), 4), MASK)
    done = area._refine(area.levels[0], 0, pyramid(stripes(2, 0.02), 4)[0], np.eye(3), "translation", None)
    powers = done[1].told.power
    assert powers[0] == pytest.approx(1.0, abs=0.1)
    assert powers[1] > 10 * LEAST_POWER


def test_a_photograph_tells_all_of_its_motion():
    from skimage import data

    picture = np.float32(data.camera()[100:300, 100:420] / 255)
    rng = np.random.default_rng(3)
    a, b = (np.float32(picture + rng.normal(0, 0.02, picture.shape)) for _ in range(2))
    fit = Area(pyramid(a, 4), MASK).find(pyramid(b, 4), np.eye(3))
    assert fit.uncertainty_px == pytest.approx(fit.firm_px)
    assert fit.uncertainty_px < 0.2


@pytest.mark.parametrize("motion", ["translation", "similarity", "affine", "perspective"])
def test_a_field_that_stays_says_its_error_by_the_motion_that_it_may_have(motion):
    """A shot that shifts by a known way: with fewer numbers than eight an error of hundreds of px was told before."""
    from skimage import data

    picture = np.float32(data.camera() / 255)
    rng, frames, shifts = np.random.default_rng(5), [], [(0.8 * k, 0.3 * k) for k in range(6)]
    for x, y in shifts:
        part = ndimage.shift(picture, (y, x), order=3, mode="reflect")[100:300, 100:420]
        frames.append(np.float32(part + rng.normal(0, 0.01, part.shape)))
    lock = Lock(id="l", name="L", kind="plane", field_stays=True, reference_frame=0, motion=motion)
    solved = solve_staying(lock, frames.__getitem__, MASK, lambda frame: None, range(6))
    assert len(solved.solved) == 6
    for entry, (x, y) in zip(solved.solved, shifts):
        off = np.reshape(entry.homography, (3, 3)) @ [160, 100, 1]
        assert np.hypot(*(off[:2] / off[2] - [160 + x, 100 + y])) < 0.1
        assert entry.residual_px < 0.3
