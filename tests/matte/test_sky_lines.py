"""Wires, nets, masts and twigs before the sky: what is thin neither parts the sky below it from the frame's top nor
goes with it. Photographed ground of scikit-image before made clouds; the lines are drawn by OpenCV."""

import cv2
import numpy as np
import pytest
from scipy.ndimage import median_filter

from skies_plates import cloudy
from zonal_mantle.matte import build_matte
from zonal_mantle.matte.sky_lines import WINDOW, without_lines
from zonal_mantle.matte.sky_region import learn_sky, sky_region, working
from zonal_mantle.shot import ClearSkyPull, Matte

PULL = Matte(pulls=(ClearSkyPull(),))
DARK = np.array([0.022, 0.024, 0.028], np.float32)  # scene-linear


def lines(kind: str, size: tuple[int, int]) -> np.ndarray:
    """How far lines cover each pixel, (h, w)."""
    width, height = size
    out, rng = np.zeros((height, width), np.float32), np.random.default_rng(7)
    if kind == "wires":
        for y in (30, 60, 90):
            xs = np.arange(0, width + 8, 8)
            places = np.stack([xs, y - 15 * ((xs - width / 2) / (width / 2)) ** 2], axis=1)
            cv2.polylines(out, [np.round(places * 8).astype(np.int32)], False, 1, 2, cv2.LINE_AA, 3)
    elif kind == "net":
        for x in range(-200, width + 200, 40):
            cv2.line(out, (x, 0), (x + 100, height), 1, 2, cv2.LINE_AA)
            cv2.line(out, (x + 100, 0), (x, height), 1, 2, cv2.LINE_AA)
    elif kind == "mast":
        cv2.line(out, (width // 3, 20), (width // 3, height), 1, 7, cv2.LINE_AA)
    else:
        for _ in range(30):
            x, y = int(rng.integers(0, width)), 0
            for _ in range(5):
                there = x + int(rng.integers(-15, 16)), y + int(rng.integers(3, 25))
                cv2.line(out, (x, y), there, 1, int(rng.integers(1, 4)), cv2.LINE_AA)
                x, y = there
    return out


@pytest.mark.parametrize(
    ("kind", "name"), [("wires", "grass"), ("net", "gravel"), ("mast", "grass"), ("twigs", "gravel")]
)
def test_what_is_thin_stays_and_the_sky_behind_it_goes(kind, name):
    pixels, true = cloudy(3, name, grain=0.01)
    covered = lines(kind, (pixels.shape[1], pixels.shape[0]))
    seen = np.float32(pixels * (1 - covered[..., None]) + DARK * covered[..., None])
    made, whole = build_matte(seen, PULL, 1), 1 - (1 - true) * (1 - covered)
    alpha = made.alpha
    assert (alpha[whole < 0.01] > 0.1).mean() <= 0.02
    before_sky = (covered > 0.99) & (true < 0.01)
    assert (alpha[before_sky] < 0.5).mean() <= 0.02
    assert (made.doubt(seen) > 0.5).mean() <= 0.05


def test_soft_dark_clouds_are_still_sky():
    pixels, true = cloudy(3, "grass", grain=0.01)
    streaks, rng = np.zeros(true.shape, np.float32), np.random.default_rng(2)
    for _ in range(10):
        middle = int(rng.integers(0, 640)), int(rng.integers(10, 120))
        cv2.ellipse(streaks, middle, (int(rng.integers(30, 110)), int(rng.integers(3, 7))), 0, 0, 360, 1, -1)
    streaks = cv2.GaussianBlur(streaks, (0, 0), 3) * (1 - true)
    seen = np.float32(pixels * (1 - 0.5 * streaks[..., None]))
    alpha = build_matte(seen, PULL, 1).alpha
    assert (alpha[true < 0.01] > 0.1).mean() <= 0.01


def test_lines_are_filled_with_what_is_about_them():
    """As the sky is without them, and about the middle of a window, by SciPy; what is not even stays as it is."""
    rng = np.random.default_rng(1)
    sky = np.linspace(0.5, 0.7, 90)[:, None, None] + rng.normal(0, 0.006, (90, 120, 3))
    wired = sky.copy()
    wired[40:44] = 0.1
    bare, dark = without_lines(np.float32(wired), 0.006)
    middle = np.dstack([median_filter(wired[..., k], WINDOW) for k in range(3)])
    inside = np.s_[40:44, 10:-10]
    assert np.abs(bare[inside] - np.linspace(0.5, 0.7, 90)[40:44, None, None]).max() < 0.005
    assert np.abs(bare[inside] - middle[inside]).max() < 0.02
    assert dark[inside].min() == 1
    assert np.abs(bare[:36] - wired[:36]).max() < 0.03
    assert dark[:36].max() == 0
    leaves = np.float32(rng.random((90, 120, 3)))
    bare, dark = without_lines(leaves, 0.006)
    assert np.array_equal(bare, leaves)
    assert dark.max() == 0


def test_a_pale_trail_is_no_ground_and_half_the_sky_is_no_line():
    sky = np.full((90, 120, 3), 0.5, np.float32)
    sky[40:43] = 0.9
    assert without_lines(sky, 0.006)[1].max() == 0
    sky[45:] = 0.1
    bare, dark = without_lines(sky, 0.006)
    assert dark[60:].max() == 0
    assert np.array_equal(bare[60:], sky[60:])


def test_the_region_below_a_wire_does_not_know_of_it():
    pixels, true = cloudy(3, "gravel", grain=0.01)
    covered = lines("wires", (640, 360))
    chances = []
    for amount in (0.0, 1.0):
        seen = working(np.float32(pixels * (1 - amount * covered[..., None]) + amount * DARK * covered[..., None]))
        chances.append(cv2.resize(sky_region(seen, learn_sky([seen]))[0], (640, 360)))
    apart = cv2.dilate(covered, np.ones((9, 9))) < 0.01
    open_sky = apart & (cv2.erode(np.float32(true < 0.002), np.ones((9, 9))) > 0)
    assert np.abs(chances[0] - chances[1])[open_sky].mean() < 0.02
