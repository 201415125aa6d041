"""Plates with black borders: bars of another picture shape, and the rim that undistorting leaves. Photographed ground
of scikit-image before made clouds."""

import cv2
import numpy as np
import pytest
from scipy.ndimage import distance_transform_edt

from skies_plates import cloudy
from zonal_mantle.matte import build_matte
from zonal_mantle.matte.dead_border import dead_border, filled_in
from zonal_mantle.matte.sky_region import noise_of, working
from zonal_mantle.shot import ClearSkyPull, Matte

PULL = Matte(pulls=(ClearSkyPull(),))


def bordered(kind: str, pixels: np.ndarray, alpha: np.ndarray):
    """The plate with a border, the true alpha in it, and where it shows something."""
    height, width = alpha.shape
    shows = np.ones((height, width), bool)
    if kind == "letterbox":
        shows[:34] = shows[-34:] = False
    elif kind == "pillars":
        shows[:, :60] = shows[:, -60:] = False
    else:
        y, x = np.mgrid[:height, :width].astype(np.float32)
        u, v = (x - width / 2) / (width / 2), (y - height / 2) / (width / 2)
        by = 1 + 0.12 * (u * u + v * v)
        there = np.float32(u * by * width / 2 + width / 2), np.float32(v * by * width / 2 + height / 2)
        pixels, alpha = (cv2.remap(each, *there, cv2.INTER_LINEAR, borderValue=0) for each in (pixels, alpha))
        shows = (there[0] > 2) & (there[0] < width - 3) & (there[1] > 2) & (there[1] < height - 3)
        return np.float32(pixels), alpha, shows
    return np.float32(pixels * shows[..., None]), alpha, shows


@pytest.mark.parametrize(("kind", "name"), [("letterbox", "grass"), ("pillars", "gravel"), ("undistorted", "grass")])
def test_the_sky_is_cut_as_without_the_border_and_the_border_stays(kind, name):
    pixels, true = cloudy(3, name, grain=0.01)
    seen, alpha, shows = bordered(kind, pixels, true)
    made = build_matte(seen, PULL, 1)
    cut = made.alpha
    inner = cv2.erode(shows.astype(np.uint8), np.ones((7, 7))) > 0
    assert (cut[inner & (alpha < 0.002)] > 0.1).mean() <= 0.005
    assert (cut[inner & (cv2.erode(alpha, np.ones((9, 9))) > 0.998)] < 0.9).mean() <= 0.015
    outer = cv2.erode((~shows).astype(np.uint8), np.ones((7, 7)), borderValue=1) > 0
    assert cut[outer].min() > 0.99
    assert (made.doubt(seen) > 0.5).mean() <= 0.06


def test_compressed_bars_are_bars_too():
    pixels, true = cloudy(3, "grass", grain=0.01)
    seen, _, _ = bordered("letterbox", pixels, true)
    codes = np.uint8(np.clip(seen, 0, 1) ** (1 / 2.2) * 255 + 0.5)
    _, packed = cv2.imencode(".jpg", codes[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 60])
    worse = cv2.imdecode(packed, cv2.IMREAD_COLOR)[..., ::-1].astype(np.float32) / 255
    dead = dead_border(working(np.ascontiguousarray(worse**2.2, np.float32)))
    assert dead.mean() == pytest.approx(2 * 34 / 360, abs=0.02)


def test_what_is_black_for_another_reason_is_no_border():
    pixels, _ = cloudy(3, "grass", grain=0.01)
    assert dead_border(working(pixels)) is None
    night = pixels.copy()
    night[:120] = 0  # a black sky at the top alone
    assert dead_border(working(np.float32(night))) is None
    street, roofs = pixels.copy(), np.random.default_rng(4).integers(20, 60, (2, 32)).repeat(20, axis=1)
    rows = np.arange(360)[:, None]
    street[(rows < roofs[0]) | (rows >= 360 - roofs[1])] = 0  # a black sky above roofs, a black road
    assert dead_border(working(np.float32(street))) is None
    assert dead_border(np.zeros((54, 96, 3), np.float32)) is None
    frame = pixels.copy()
    frame[150:200, 200:400] = 0  # within the picture
    assert dead_border(working(np.float32(frame))) is None


def test_a_border_is_filled_with_the_nearest_that_shows():
    rng = np.random.default_rng(2)
    picture = rng.random((40, 60, 3)).astype(np.float32)
    dead = np.zeros((40, 60), bool)
    dead[:6] = dead[-5:] = True
    filled = filled_in(picture, dead)
    wide = cv2.dilate(dead.astype(np.uint8), np.ones((3, 3))) > 0
    rows, columns = distance_transform_edt(wide, return_distances=False, return_indices=True)
    assert np.array_equal(filled, picture[rows, columns])


def test_noise_is_that_of_the_picture_and_not_of_the_bars():
    rng = np.random.default_rng(1)
    picture = np.float32(0.5 + rng.normal(0, 0.02, (270, 480, 3)))
    picture[:60] = picture[-60:] = 0
    assert noise_of(picture) == pytest.approx(0.02, rel=0.1)
