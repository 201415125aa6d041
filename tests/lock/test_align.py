"""Direct alignment on photographs, against known motions and OpenCV's enhanced correlation (ECC)."""

import cv2
import numpy as np
import pytest

from lock_plates import box_mask, corner_errors, flat_plates
from zonal_mantle.lock import Area, pyramid
from zonal_mantle.lock.blur import smeared, streak, unlike

SIZE, BOX = (640, 360), (170, 90, 470, 270)


def aligned(plates, frames, motion="perspective", box=BOX, cover=None):
    area = Area(pyramid(plates.frames[0], 5), box_mask(plates.size, box))
    out, last = [], np.eye(3)
    for k in frames:
        fit = area.find(pyramid(plates.frames[k], len(area.levels)), last, motion, cover)
        assert fit is not None, k
        last = fit.homography
        out.append(fit)
    return out


def rms(values):
    return float(np.sqrt(np.mean(np.square(values))))


@pytest.mark.parametrize(("name", "seed"), [("gravel", 1), ("brick", 5), ("coffee", 9)])
def test_a_textured_field_is_followed_to_a_twentieth_of_a_pixel(name, seed):
    plates = flat_plates(name, seed, SIZE, count=8, speed=0.7)
    fits = aligned(plates, range(1, 8))
    assert rms([corner_errors(f.homography, t, BOX) for f, t in zip(fits, plates.truth[1:])]) < 0.06
    assert all(f.residual_px < 0.12 for f in fits)


def test_what_passes_in_front_is_weighed_down():
    plates = flat_plates("gravel", 2, SIZE, count=9, figure=60, speed=0.7)
    fits = aligned(plates, range(1, 9))
    assert rms([corner_errors(f.homography, t, BOX) for f, t in zip(fits, plates.truth[1:])]) < 0.15
    assert min(f.kept for f in fits) < 0.85  # it did pass


def test_it_is_at_least_as_near_as_opencvs_ecc_on_the_same_pairs():
    """Evangelidis & Psarakis 2008, as OpenCV has it, from the same start."""
    plates = flat_plates("coffee", 4, SIZE, count=6, speed=0.7)
    ours = [corner_errors(f.homography, t, BOX) for f, t in zip(aligned(plates, range(1, 6)), plates.truth[1:])]
    x0, y0, x1, y1 = BOX
    half, shift = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]]), np.eye(3)
    shift[:2, 2] = x0, y0
    theirs, last = [], shift.astype(np.float32)
    stop = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 60, 1e-6)
    for k in range(1, 6):
        template = np.ascontiguousarray(plates.frames[0][y0:y1, x0:x1])
        _, last = cv2.findTransformECC(template, plates.frames[k], last, cv2.MOTION_HOMOGRAPHY, stop, None, 3)
        found = half @ last @ np.linalg.inv(shift) @ np.linalg.inv(half)
        theirs.append(corner_errors(found, plates.truth[k], BOX))
    assert rms(ours) <= 1.1 * rms(theirs)


def test_gain_and_bias_do_not_move_it():
    plates = flat_plates("gravel", 3, SIZE, count=2, grain=0.005)
    plain = aligned(plates, [1])[0]
    plates.frames[1] = (0.6 * plates.frames[1] + 0.17).astype(np.float32)
    other = aligned(plates, [1])[0]
    assert corner_errors(other.homography, plain.homography, BOX) < 0.03
    assert other.gain == pytest.approx(0.6 * plain.gain, abs=0.02)


@pytest.mark.parametrize("motion", ["translation", "similarity", "affine"])
def test_a_simpler_motion_stays_simple(motion):
    plates = flat_plates("gravel", 6, SIZE, count=2)
    found = aligned(plates, [1], motion)[0].homography
    assert found[2, :2] == pytest.approx((0, 0), abs=1e-12)
    if motion != "affine":
        assert found[0, 0] == pytest.approx(found[1, 1], abs=1e-9)
    if motion == "translation":
        assert found[:2, :2] == pytest.approx(np.eye(2), abs=1e-12)


def test_a_field_that_leaves_the_picture_is_not_found():
    plates = flat_plates("gravel", 7, SIZE, count=2)
    area = Area(pyramid(plates.frames[0], 5), box_mask(SIZE, BOX))
    away = np.array([[1, 0, 900], [0, 1, 0], [0, 0, 1.0]])
    assert area.find(pyramid(plates.frames[1], 5), away) is None


def test_a_large_jump_is_found_from_the_likeness_of_the_coarsest_size():
    plates = flat_plates("coffee", 8, SIZE, count=1, grain=0.01)
    moved = np.roll(plates.frames[0], (24, 70), (0, 1))
    area = Area(pyramid(plates.frames[0], 5), box_mask(SIZE, BOX))
    feeds = pyramid(moved, 5)
    fit = area.find(feeds, area.start(feeds, np.eye(3)))
    assert fit is not None
    assert corner_errors(fit.homography, np.array([[1, 0, 70], [0, 1, 24], [0, 0, 1.0]]), BOX) < 0.02


def test_a_streak_has_the_second_moment_of_a_uniform_motion():
    """A uniform motion over a length L spreads by L² / 12 (from memory)."""
    kernel = streak(np.array([12.0, 0.0]))
    x = np.arange(kernel.shape[1]) - kernel.shape[1] // 2
    across = kernel.sum(axis=0)
    assert (across * x).sum() == pytest.approx(0, abs=1e-4)
    assert (across * x**2).sum() == pytest.approx(144 / 12, rel=0.05)


def test_blurs_made_alike_bring_a_fast_frame_onto_a_slow_one():
    sharp = flat_plates("coffee", 3, SIZE, count=1, grain=0, shutter=0).frames[0]
    step = np.array([22.0, 3.0])
    fast = smeared(sharp, step)
    assert unlike(step, np.zeros(2))
    assert not unlike(step, step + 0.02)
    inside = np.s_[40:-40, 40:-40]
    apart = np.abs(smeared(sharp, step) - smeared(fast, np.zeros(2)))[inside].max()
    assert apart < 1e-5
    assert np.abs(sharp - fast)[inside].mean() > 20 * apart
