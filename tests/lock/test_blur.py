"""Motion blur: streaks, how places move, and shutters that are found."""

import cv2
import numpy as np
import pytest

from lock_plates import box_mask, corner_errors, flat_plates
from zonal_mantle.lock import solve_plane, solve_point
from zonal_mantle.lock.blur import Blur, Course, Exposure, courses_of, smeared, streak
from zonal_mantle.shot import Lock, Mark

SIZE, BOX = (480, 270), (110, 60, 370, 210)


def rms(values):
    return float(np.sqrt(np.mean(np.square(values))))


def moments(picture):
    y, x = np.mgrid[: picture.shape[0], : picture.shape[1]] - (np.array(picture.shape) // 2)[:, None, None]
    return (picture * x).sum(), (picture * y).sum(), (picture * x * x).sum(), (picture * x**3).sum()


def test_a_streak_has_the_moments_of_its_motion():
    """A uniform line of length s has the variance s² / 12 (common knowledge of the uniform distribution), bilinear
    splatting adds what it smooths by; one that gets faster is denser where it began, about the same centroid."""
    even, bent = streak(np.array([12.0, 0.0])), streak(np.array([[12.0, 0.0], [8.0, 0.0]]))
    for kernel in (even, bent):
        assert kernel.sum() == pytest.approx(1, abs=1e-5)
        assert moments(kernel)[:2] == pytest.approx((0, 0), abs=0.01)
    assert moments(even)[2] == pytest.approx(12**2 / 12, rel=0.03)
    assert moments(bent)[3] > 5  # its tail points the way it goes
    dot = np.zeros((41, 41), np.float32)
    dot[20, 20] = 1
    assert moments(smeared(dot, np.array([[12.0, 0.0], [8.0, 0.0]])))[3] == pytest.approx(moments(bent)[3], rel=0.01)


def test_the_course_of_a_place_is_that_of_its_parabola():
    at = {k: np.array([3.0 * k + 0.5 * k * k, 100 - 2.0 * k]) for k in range(6)}
    motions = {k: np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]]) for k, (x, y) in at.items()}
    courses = courses_of(motions, at)
    for k in range(6):
        assert courses[k].step == pytest.approx([3.0 + k, -2.0])
        assert courses[k].turns == pytest.approx([1.0, 0.0], abs=1e-9)


@pytest.mark.parametrize("share", [0.0, 0.5, 1.0])
def test_a_shutter_is_found_from_what_is_left_over(share):
    """Two frames of one picture, blurred by known motions: what the fit leaves over tells the share of the shutter."""
    sharp = flat_plates("grass", 3, SIZE, count=1, grain=0, shutter=0).frames[0]
    own, other = Course(np.array([2.0, 1.0])), Course(np.array([9.0, -3.0]))
    a, b = smeared(sharp, own.over(share)), smeared(sharp, other.over(share))
    exposure = Exposure(fades=0.3)
    for _ in range(8):
        blur = Blur(own, other, exposure.share)
        x, y = (smeared(each, streaks) for each, streaks in zip((b, a), blur.streaks))
        bend = blur.bend((x + y) / 2, 1)
        exposure.learn((float((bend * (x - y)).sum()), float((bend * bend).sum()), exposure.share))
    assert exposure.share == pytest.approx(share, abs=0.06)


@pytest.mark.parametrize("share", [0.0, 0.5, 1.0])
def test_a_plane_lock_is_as_exact_as_it_says_whatever_the_shutter(share):
    plates = flat_plates("immunohistochemistry", 31, SIZE, count=10, grain=0.01, shutter=share, speed=1.5)
    lock = Lock(id="a", name="A", kind="plane", reference_frame=0)
    found = solve_plane(lock, plates.frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(10))
    off = [corner_errors(np.reshape(e.homography, (3, 3)), plates.truth[e.frame], BOX) for e in found.solved[1:]]
    told = [entry.residual_px for entry in found.solved[1:]]
    assert len(off) == 9
    assert rms(off) < 0.15
    assert 0.5 < rms(told) / rms(off) < 2.5


def test_a_shutter_that_is_given_is_not_looked_for():
    known = Exposure.of(90.0)
    known.learn((5.0, 100.0, 0.25))
    assert known.share == 0.25
    assert known.told
    assert not Exposure.of(None).told


@pytest.mark.parametrize(
    ("kind", "name", "seed", "speed"), [("plane", "immunohistochemistry", 31, 1.5), ("point", "page", 51, 1.0)]
)
def test_a_lock_with_its_true_shutter_is_as_exact_as_one_that_finds_it(kind, name, seed, speed):
    plates = flat_plates(name, seed, SIZE, count=8, grain=0.01, shutter=1.0, speed=speed)
    mark = Mark(x=230.0, y=190.0, patch=(20.0, 20.0))

    def error(shutter_deg):
        lock = Lock(id="a", name="A", kind=kind, reference_frame=0, shutter_deg=shutter_deg)
        if kind == "plane":
            found = solve_plane(lock, plates.frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(8))
            return rms(
                [corner_errors(np.reshape(e.homography, (3, 3)), plates.truth[e.frame], BOX) for e in found.solved[1:]]
            )
        found = solve_point(lock.but(marks=(mark,), motion="translation"), plates.frames.__getitem__, range(8))
        places = [
            cv2.perspectiveTransform(np.array([[[mark.x, mark.y]]]), plates.truth[e.frame])[0, 0] for e in found.solved
        ]
        assert len(places) > 4
        return rms([np.hypot(*(np.array(e.marks[0]) - at)) for e, at in zip(found.solved, places)])

    given, found, wrong = error(360.0), error(None), error(0.0)
    assert given < 1.2 * found + 0.02
    assert wrong > 1.3 * given


def test_marks_are_as_exact_as_they_say_on_blurred_frames():
    plates = flat_plates("page", 51, SIZE, count=8, grain=0.01, shutter=1.0)
    off, told = [], []
    for x, y in ((150.0, 100.0), (300.0, 140.0), (230.0, 190.0)):
        lock = Lock(
            id="a", name="A", reference_frame=0, marks=(Mark(x=x, y=y, patch=(20.0, 20.0)),), motion="translation"
        )
        for entry in solve_point(lock, plates.frames.__getitem__, range(8)).solved[1:]:
            truth = cv2.perspectiveTransform(np.array([[[x, y]]]), plates.truth[entry.frame])[0, 0]
            off.append(float(np.hypot(*(np.array(entry.marks[0]) - truth))))
            told.append(entry.residual_px)
    assert rms(off) < 0.12
    assert 0.5 < rms(told) / rms(off) < 2.5
