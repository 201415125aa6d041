"""Where blocks of one picture lie in another, and how sure that is said to be."""

import cv2
import numpy as np
import pytest
from skimage import data
from skimage.registration import phase_cross_correlation

from zonal_mantle.lock.blocks import MOST_PX, Blocks

WHOLE = np.ones((240, 320), np.float32)
GRID = (5, 7)


def moved(name, right, down, gain=1.0, soft=0.0):
    """A photograph, and the same moved in pixels, in other light and softer."""
    full = getattr(data, name)()
    grey = np.float32(full if full.ndim == 2 else cv2.cvtColor(full, cv2.COLOR_RGB2GRAY)) / 255
    grey = cv2.resize(grey, (420, 340), interpolation=cv2.INTER_AREA)
    way = np.array([[1, 0, 50 - right], [0, 1, 50 - down]], np.float32)
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    here = cv2.warpAffine(grey, np.array([[1, 0, 50], [0, 1, 50.0]]), (320, 240), flags=flags)
    there = cv2.warpAffine(grey, way, (320, 240), flags=flags)
    there = gain * (cv2.GaussianBlur(there, (0, 0), soft) if soft else there)
    return np.asarray(here, np.float32), np.asarray(there, np.float32)


@pytest.mark.parametrize(("right", "down"), [(0.0, 0.0), (0.4, -0.7), (5.3, 2.1), (-6.0, 4.0)])
def test_blocks_are_found_where_they_went_in_any_light(right, down):
    here, there = moved("gravel", right, down, gain=0.7, soft=0.8)
    found = Blocks(here, WHOLE, GRID).beside(there, WHOLE)
    assert found.found.mean() > 0.9
    off = np.linalg.norm(found.px - (right, down), axis=2)[found.found]
    assert np.median(off) < 0.06
    # scikit-image's phase correlation (Guizar-Sicairos, Thurman & Fienup 2008) of the whole picture agrees
    other, _, _ = phase_cross_correlation(here, there, upsample_factor=20)
    assert np.median(found.px[found.found], axis=0) == pytest.approx(-other[::-1], abs=0.15)


@pytest.mark.parametrize(("name", "grain"), [("gravel", 0.03), ("camera", 0.01), ("moon", 0.03), ("brick", 0.05)])
def test_what_is_said_of_their_error_is_their_error(name, grain):
    """Normalised errors of blocks that are firm: two standard normal ones a block, so their rms is √2."""
    rng, normal = np.random.default_rng(5), []
    here, there = moved(name, 1.3, -0.8)
    for _ in range(8):
        a, b = (np.float32(each + rng.normal(0, grain, each.shape)) for each in (here, there))
        found = Blocks(a, WHOLE, GRID).beside(b, WHOLE)
        firm = found.found & (found.deviation < 0.4)
        normal += list((np.linalg.norm(found.px - (1.3, -0.8), axis=2) / found.deviation)[firm])
    assert len(normal) > 40
    assert 0.4 < np.sqrt(np.mean(np.square(normal)) / 2) < 2


def test_what_cannot_be_found_is_not():
    rng = np.random.default_rng(2)
    here, there = moved("gravel", 0, 0)
    blocks = Blocks(here, WHOLE, GRID)
    for other in (rng.random(here.shape, np.float32), np.zeros_like(here), np.full_like(here, np.nan), here + np.inf):
        assert not blocks.beside(np.asarray(other, np.float32), WHOLE).found.any()
    assert not blocks.beside(there, np.zeros_like(WHOLE)).found.any()
    assert not Blocks(np.full_like(here, 0.5), WHOLE, GRID).beside(there, WHOLE).found.any()


def test_a_part_that_is_not_seen_is_not_told_of():
    here, there = moved("gravel", 3, 0)
    seen = WHOLE.copy()
    seen[:, :160] = 0
    there = np.asarray(np.where(seen > 0, there, 0), np.float32)
    found = Blocks(here, WHOLE, GRID).beside(there, seen)
    assert not found.found[:, :3].any()
    assert found.found[:, 4:].all()
    assert np.abs(found.px[:, 4:] - (3, 0)).max() < 0.2


def test_no_block_goes_farther_than_is_believed():
    here, there = moved("gravel", 40, 0)
    found = Blocks(here, WHOLE, GRID).beside(there, WHOLE)
    assert np.linalg.norm(found.px, axis=2).max() <= MOST_PX + 4
