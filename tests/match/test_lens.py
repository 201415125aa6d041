"""Focus, motion blur and sharpness."""

import cv2
import numpy as np
import pytest
from scipy.signal import convolve2d

from zonal_mantle.match.lens import aperture, blur_circle_px, defocused, moved_over_shutter, sharpened, softened


def still(colour: np.ndarray) -> np.ndarray:
    return np.dstack([colour] * 3 + [np.ones_like(colour)]).astype(np.float32)


@pytest.mark.parametrize(("radius", "blades"), [(0.4, 0), (1.3, 0), (4.0, 0), (4.0, 6), (7.3, 5)])
def test_blurs_are_those_of_scipy_in_float64(radius, blades):
    # reference library: scipy.signal.convolve2d
    picture = np.random.default_rng(3).uniform(0, 2, (48, 56))
    out = defocused(still(picture), radius, blades, 11.0)[..., 0]
    kernel = aperture(radius, blades, 11.0).astype(np.float64)
    half = kernel.shape[0] // 2
    expected = convolve2d(picture, kernel, mode="same")
    inner = (slice(half, -half or None),) * 2
    assert out[inner] == pytest.approx(expected[inner], abs=2e-5)


def test_a_point_out_of_focus_is_the_apertures_shape_with_its_energy():
    picture = np.zeros((41, 41), np.float32)
    picture[20, 20] = 50.0
    out = defocused(still(picture), 6.0)[..., 0]
    assert out.sum() == pytest.approx(50.0, rel=0.01)
    y, x = np.mgrid[-20:21, -20:21]
    inside = np.hypot(x, y) < 5
    assert out[inside].std() / out[inside].mean() < 0.01
    assert np.abs(out[np.hypot(x, y) > 7]).max() < 1e-5
    area = (out > out.max() / 2).sum()
    assert area == pytest.approx(np.pi * 36, rel=0.05)
    five = defocused(still(picture), 8.0, 5)[..., 0]
    assert five.sum() == pytest.approx(50.0, rel=0.01)
    assert (five > five.max() / 2).sum() == pytest.approx(np.pi * 64, rel=0.06)  # a polygon of the disc's area


def test_edges_stay_right_under_premultiplication():
    rgba = np.zeros((40, 40, 4), np.float32)
    rgba[:, 20:] = (0.8, 0.4, 0.2, 1.0)
    out = defocused(rgba, 5.0)
    seen = out[..., 3] > 1e-3
    assert out[seen][:, :3] / out[seen][:, 3:] == pytest.approx(np.tile([0.8, 0.4, 0.2], (seen.sum(), 1)), abs=1e-4)


@pytest.mark.parametrize("sigma", [0.3, 0.7, 1.5, 4.0])
def test_a_soft_blur_has_the_variance_that_was_asked_for(sigma):
    point = np.zeros((61, 61), np.float32)
    point[30, 30] = 1
    out = softened(still(point), sigma)[..., 0]
    _, x = np.mgrid[-30:31, -30:31]
    assert (out * x**2).sum() == pytest.approx(sigma**2, rel=0.02)


@pytest.mark.parametrize("spread", [0.0, 0.6])
def test_a_thin_line_moved_forty_pixels_shows_no_ripple(spread):
    line = np.zeros((16, 160), np.float32)
    line[:, 80] = 1
    along = np.zeros((2, 12, 2), np.float32)
    along[..., 0] = -80 + np.linspace(-spread, spread, 12)  # by more or less, so that both ways of working are tried
    out = moved_over_shutter(still(line), along, np.zeros_like(along), 16.0, -0.25, 0.25)[8, :, 0]
    flat = out[65:96]
    assert np.ptp(flat) / flat.mean() < 0.02 + 0.03 * spread
    assert out.sum() == pytest.approx(1.0, rel=0.01 + 0.02 * spread)
    assert (out > flat.mean() / 2).sum() == pytest.approx(40, abs=1.5)


def test_sharpening_stays_within_its_overshoot_and_leaves_the_rim():
    step = np.full((40, 60), 0.2, np.float32)
    step[:, 30:] = 0.6
    soft = softened(still(step), 1.5)
    out = sharpened(soft, 3.0, 1.5, 0.1)[..., 0]
    assert out.max() <= 0.6 + 0.1 * 0.4 + 1e-4
    assert out.min() >= 0.2 - 0.1 * 0.4 - 1e-4
    slope = np.abs(np.diff(out[20])).max()
    assert slope > 1.3 * np.abs(np.diff(soft[20, :, 0])).max()
    cut = still(np.full((20, 20), 0.5, np.float32)) * np.linspace(0, 1, 20, dtype=np.float32)[None, :, None]
    assert sharpened(cut, 1.0, 1.0, 0.2) == pytest.approx(cut, abs=1e-4)


def test_the_circle_of_confusion_is_the_thin_lenss():
    # common practice: at the hyperfocal distance H = f²/(N c) + f, infinity is blurred by just c
    focal, stop, circle = 35.0, 4.0, 0.02
    hyperfocal = (focal**2 / (stop * circle) + focal) / 1000
    radius = blur_circle_px(None, focal, stop, hyperfocal, 24.9, 1920)
    assert radius == pytest.approx(circle / 24.9 * 1920 / 2, rel=1e-3)
    assert blur_circle_px(12.0, focal, stop, 12.0, 24.9, 1920) == 0


def test_opencv_keeps_the_kernels_middle():
    point = np.zeros((31, 31), np.float32)
    point[15, 15] = 1
    out = defocused(still(point), 3.0, 3, 20.0)[..., 0]
    expected = aperture(3.0, 3, 20.0)
    half = expected.shape[0] // 2
    assert out[15 - half : 16 + half, 15 - half : 16 + half] == pytest.approx(expected, abs=1e-6)
    assert cv2.countNonZero(out) > 0
