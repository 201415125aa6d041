"""Grain on a picture against a plate's, where both are known: NumPy's noise, SciPy's blurs."""

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from skimage import data

from zonal_mantle.match.grain_compared import compare_grain, width_of
from zonal_mantle.match.noise_shape import autocorrelation
from zonal_mantle.shot.match import GrainModel

PICTURE = (data.astronaut()[:384, :480].astype(np.float32) / 255) * 0.9 + 0.05
ALL = np.ones(PICTURE.shape[:2], bool)


def noise(wide: float = 0.0, seed: int = 1) -> np.ndarray:
    white = np.random.default_rng(seed).standard_normal(PICTURE.shape)
    blurred = gaussian_filter(white, (wide, wide, 0)) if wide else white
    return (blurred / blurred.std()).astype(np.float32)


def plate_of(wide: float, by_level: tuple[float, float] = (0.01, 0.01)) -> GrainModel:
    spatial = autocorrelation(noise(wide, 9).reshape(16, 24, 20, 24, 3).swapaxes(1, 2).reshape(-1, 24, 24, 3))
    return GrainModel(levels=(0.0, 1.0), deviation=tuple((each,) * 3 for each in by_level), spatial=spatial)


@pytest.mark.parametrize("wide", [0.0, 0.7])
@pytest.mark.parametrize("times", [0.0, 0.5, 0.85, 1.0, 1.15, 2.0])
def test_the_strength_is_told(times, wide):
    found = compare_grain(PICTURE, PICTURE + 0.01 * np.float32(times) * noise(wide), ALL, plate_of(wide))
    assert found.ratio == pytest.approx(times, rel=0.02)
    assert found.is_off == (times in (0.0, 0.5, 2.0))
    assert found.off_width is None


def test_it_is_compared_at_the_levels_of_the_picture():
    plate = plate_of(0.0, (0.004, 0.02))
    by_level = 0.004 + 0.016 * PICTURE
    right = compare_grain(PICTURE, PICTURE + by_level * noise(), ALL, plate)
    assert right.ratio == pytest.approx(1, rel=0.02)
    assert set(right.by_range) == {"shadows", "middle", "lights"}
    assert (right.is_off, right.off_ranges) == (False, ())
    even = compare_grain(PICTURE, PICTURE + right.plate[1] * noise(), ALL, plate)
    assert even.ratio == pytest.approx(1, rel=0.05)  # as strong on the whole
    assert not even.is_off
    assert even.off_ranges == ("shadows",)  # in the lights it is 0.8 of the plate's


def test_one_channel_alone_is_told():
    laid = 0.01 * noise()
    laid[..., 2] *= 2.5
    found = compare_grain(PICTURE, PICTURE + laid, ALL, plate_of(0.0))
    assert found.own[2] / found.plate[2] == pytest.approx(2.5, rel=0.02)
    assert found.is_off


@pytest.mark.parametrize(("wide", "other", "said"), [(0.7, 0.7, None), (0.7, 1.1, "coarser"), (0.7, 0.0, "finer")])
def test_the_width_is_told(wide, other, said):
    found = compare_grain(PICTURE, PICTURE + 0.01 * noise(other), ALL, plate_of(wide))
    assert found.off_width == said
    assert not found.is_off


def test_a_width_is_that_of_the_blur():
    for wide in (0.8, 1.0):  # narrower ones are not told by samples of the blur
        assert width_of(plate_of(wide).spatial) == pytest.approx(wide, rel=0.05)


def test_noise_of_its_own_counts_and_what_is_masked_does_not():
    plate = plate_of(0.0)
    doubled = compare_grain(PICTURE, PICTURE + 0.01 * noise(), ALL, plate, plate)
    assert doubled.ratio == pytest.approx(np.sqrt(2), rel=0.02)
    half = ALL.copy()
    half[:, 240:] = False
    laid = 0.01 * noise()
    laid[:, 240:] *= 5
    assert compare_grain(PICTURE, PICTURE + laid, half, plate).ratio == pytest.approx(1, rel=0.03)
    small = np.zeros_like(ALL)
    small[30:60, 30:60] = True
    found = compare_grain(PICTURE, PICTURE + 0.01 * noise(), small, plate)
    assert found.width is None
    assert found.ratio == pytest.approx(1, rel=0.1)


def test_levels_that_the_plate_does_not_show_are_in_no_range():
    plate = plate_of(0.0, (0.004, 0.02))
    even = PICTURE + np.float32(0.0115) * noise()
    all_of = compare_grain(PICTURE, even, ALL, plate, told=np.ones(16, bool))
    assert "shadows" in all_of.by_range
    bright = compare_grain(PICTURE, even, ALL, plate, told=np.arange(16) >= 6)
    assert "shadows" not in bright.by_range
    assert bright.own == all_of.own
    assert compare_grain(PICTURE, even, ALL, plate, plate).by_range == {}
