"""What a fit says of its own error, against draws of noise."""

import cv2
import numpy as np
import pytest

from lock_plates import box_mask, finished, flat_plates
from zonal_mantle.geometry import carry
from zonal_mantle.lock import Area, pyramid
from zonal_mantle.lock.patch import Patch
from zonal_mantle.shot import Mark

SIZE, BOX, DRAWS = (440, 260), (40, 30, 400, 230), 24
POINTS = np.array([[x, y] for x in np.linspace(BOX[0], BOX[2], 4) for y in np.linspace(BOX[1], BOX[3], 3)])


def draws(name, noise_of):
    """Normalised squared errors by draw, and errors and what is said of them, px."""
    plates = flat_plates(name, 61, SIZE, count=2, grain=0, shutter=0)
    normal, off, told = [], [], []
    for seed in range(DRAWS):
        rng = np.random.default_rng(seed)
        a, b = (noise_of(frame, rng) for frame in plates.frames)
        area = Area(pyramid(a, 4), box_mask(SIZE, BOX))
        fit = area.find(pyramid(b, 4), plates.truth[1])
        apart = carry(np.linalg.inv(plates.truth[1]) @ fit.homography, POINTS) - POINTS
        normal.append(float(((area.whitening(fit, POINTS) @ apart.reshape(-1)) ** 2).mean()))
        corners = carry(fit.homography, area.corners) - carry(plates.truth[1], area.corners)
        off.append(float((corners**2).sum(axis=1).mean()))
        told.append(fit.uncertainty_px**2)
    return np.mean(normal), float(np.sqrt(np.mean(off))), float(np.sqrt(np.mean(told)))


@pytest.mark.parametrize(("name", "grain"), [("grass", 0.01), ("grass", 0.03), ("rocket", 0.01)])
def test_normalised_squared_errors_are_near_one(name, grain):
    """Bar-Shalom, Li & Kirubarajan, Estimation with Applications to Tracking and Navigation (2001), 5.4: for these
    draws of eight numbers 95 % of right covariances lie within 0.81 and 1.21; ours may be up to a third too careful."""
    normal, off, told = draws(name, lambda frame, rng: finished(frame, grain, rng))
    assert 0.55 < normal < 1.35
    assert 0.67 < told / off < 1.5


def test_noise_in_lumps_is_not_taken_for_as_many_pixels():
    """A codec's noise is alike over many pixels: taken for white, the error would be said to be a third of what it
    is."""

    def lumps(frame, rng):
        noise = cv2.GaussianBlur(rng.standard_normal(frame.shape).astype(np.float32), (0, 0), 3.0)
        return np.clip(frame + 0.012 * noise / noise.std(), 0, 1).astype(np.float32)

    _, off, told = draws("grass", lumps)
    assert 0.6 < told / off < 1.6


def test_a_pattern_along_an_edge_is_told_from_a_corner():
    """Aperture problem: B. K. P. Horn & B. G. Schunck, Determining optical flow (1981). From memory."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[:80, :80]
    for grain in (0.003, 0.03):
        edge = 0.2 + 0.6 * np.clip((x + 0.6 * y - 64) / 2, 0, 1) + rng.normal(0, grain, x.shape)
        corner = 0.2 + 0.6 * (np.clip((x - 40) / 2, 0, 1) * np.clip((y - 40) / 2, 0, 1)) + rng.normal(0, grain, x.shape)
        assert Patch(edge.astype(np.float32), Mark(x=40, y=40)).is_edge
        assert not Patch(corner.astype(np.float32), Mark(x=40, y=40)).is_edge
