"""Point locks by a turning camera: what rides far from their marks, their focal length, and what is said of both."""

from functools import cache

import cv2
import numpy as np
import pytest

from lock_plates import turning_plates
from zonal_mantle.geometry import carry
from zonal_mantle.lock import robust_motion, solve_point, turning_marks
from zonal_mantle.lock.fit import misfit
from zonal_mantle.lock.runs import flat
from zonal_mantle.shot import Lens, Lock, LockFrame, Mark

SIZE, COUNT, START = (640, 360), 16, 8
FAR = np.array([[x, y] for x in (10.0, 320.0, 630.0) for y in (10.0, 120.0, 350.0)])
PLACES = ((150.0, 270.0), (480.0, 250.0), (300.0, 300.0), (420.0, 150.0))
FOCAL = 760.0


@cache
def plates():
    return turning_plates(("coffee", "gravel"), 4, SIZE, COUNT, 9.0, 48.0, 0.008)


def filmed(motion, places=PLACES[:2], **more):
    frames = plates().frames
    marks = tuple(Mark(x=x, y=y, patch=(14, 14), reach=(30, 30)) for x, y in places)
    lock = Lock(id="a", name="A", reference_frame=START, marks=marks, motion=motion, **more)
    return solve_point(lock, lambda f: frames[f], range(COUNT))


def off(lock):
    start = plates().truth[START]
    ways = {e.frame: np.reshape(e.homography, (3, 3)) for e in lock.solved}
    return max(
        float(np.linalg.norm(carry(plates().truth[f] @ np.linalg.inv(start), FAR) - carry(way, FAR), axis=1).max())
        for f, way in ways.items()
    )


def made(motions, places=PLACES, **more):
    """A lock whose marks were followed perfectly by motions, frame by frame; solved by a similarity."""
    marks = tuple(Mark(x=x, y=y) for x, y in places)
    first = LockFrame(frame=0, homography=flat(np.eye(3)), marks=places)
    rest = tuple(
        LockFrame(
            frame=n, homography=flat(np.eye(3)), residual_px=0.1,
            marks=tuple(map(tuple, carry(motion, np.array(places)).tolist())),
        )
        for n, motion in enumerate(motions, 1)
    )  # fmt: skip
    return Lock(id="a", name="A", reference_frame=0, marks=marks, solved=(first, *rest), **more)


def turned(count=12, degrees=8.0):
    k = np.array([[FOCAL, 0, 320], [0, FOCAL, 180], [0, 0, 1]])
    ways = [np.array([0.002 * n, -np.radians(degrees) * n / count, 0.001 * n]) for n in range(1, count + 1)]
    return [k @ cv2.Rodrigues(way)[0] @ np.linalg.inv(k) for way in ways]


def test_two_marks_of_a_pan_carry_what_is_far_from_them():
    by_camera, by_picture = filmed("camera turn"), filmed("similarity")
    assert len(by_camera.solved) == len(by_picture.solved) == COUNT
    assert off(by_picture) > 6
    assert off(by_camera) < 1.0
    assert by_camera.lens.focal_px == pytest.approx(plates().focal_px, rel=0.06)
    low, high = by_camera.lens.bounds_px
    assert 0.99 * low <= plates().focal_px <= 1.01 * high  # which hold it in 95 of 100
    assert all(entry.rotation is not None for entry in by_camera.solved)


def test_what_was_followed_needs_no_second_search():
    again = turning_marks(filmed("similarity"), SIZE)
    whole = filmed("camera turn")
    assert again.motion == "camera turn"
    assert again.lens.focal_px == pytest.approx(whole.lens.focal_px, rel=1e-6)
    assert np.array([e.homography for e in again.solved]) == pytest.approx(
        np.array([e.homography for e in whole.solved]), abs=1e-6
    )


def test_a_focal_length_that_is_given_stays():
    lens = Lens(focal_px=plates().focal_px, given=True)
    assert filmed("camera turn", lens=lens).lens == lens


def test_a_focal_length_that_is_given_wrongly_is_said_and_kept():
    for times in (0.8, 1.25):
        lens = Lens(focal_px=FOCAL * times, given=True)
        found = turning_marks(made(turned(), PLACES[:2], lens=lens), SIZE)
        assert found.lens.focal_px == FOCAL * times
        assert found.lens.bounds_px[0] <= FOCAL <= found.lens.bounds_px[1]
        assert "not" in found.remarks[0]
        assert "as it is given" in found.remarks[0]


def test_marks_before_a_camera_that_slides_are_said_to_be():
    slid = [np.array([[1, 0, 8.0 * n], [0, 1, -1.0 * n], [0, 0, 1]]) for n in range(1, 12)]
    assert "a camera that slides" in turning_marks(made(slid), SIZE).remarks[0]
    assert turning_marks(made(turned()), SIZE).remarks == ()


def test_one_mark_tells_no_focal_length_and_says_so():
    lock = turning_marks(made(turned(), PLACES[:1]), SIZE)
    assert not lock.lens.focal_told
    assert "do not tell the focal length" in lock.remarks[0]
    assert lock.lens.focal_px == pytest.approx(1.4 * SIZE[0])
    assert carry(np.reshape(lock.at(12).homography, (3, 3)), np.array(PLACES[:1])) == pytest.approx(
        np.array(lock.at(12).marks), abs=1e-6
    )


def test_what_marks_lay_off_a_similarity_is_no_error_of_a_turning_camera():
    lock, homes = made(turned()), np.array(PLACES)
    entries = list(lock.solved)
    for n, entry in enumerate(entries):
        matrix, weights = robust_motion(homes, np.array(entry.marks), "similarity")
        off_it = ((carry(matrix, homes) - entry.marks) ** 2).sum(axis=1)
        error = np.hypot(entry.residual_px, np.sqrt(misfit(off_it, weights, "similarity")))
        entries[n] = entry.but(homography=flat(matrix), residual_px=float(error))
    found = turning_marks(lock.but(solved=tuple(entries)), SIZE)
    assert entries[-1].residual_px > 0.5
    assert found.remarks == ()
    assert found.lens.focal_px == pytest.approx(FOCAL, rel=0.02)
    assert found.at(12).residual_px == pytest.approx(0.1, abs=0.02)


def test_marks_before_a_camera_that_comes_nearer_and_shears_are_no_turning_cameras():
    motions = [np.array([[1 + 0.02 * n, 0.02 * n, 0], [-0.01 * n, 1 - 0.01 * n, 0], [0, 0, 1]]) for n in range(1, 10)]
    lock = turning_marks(made(motions), SIZE)
    assert any("do not move as a turning camera" in words for words in lock.remarks)
    assert max(entry.residual_px for entry in lock.solved) > 1


def test_a_mark_that_joined_later_carries_on_where_the_first_leave():
    lock = made(turned())
    later = Mark(x=lock.at(5).marks[3][0], y=lock.at(5).marks[3][1], frame=5)
    gone = tuple(
        e.but(marks=(e.marks[0], e.marks[1], None, e.marks[3] if e.frame >= 5 else None))
        if e.frame < 9
        else e.but(marks=(e.marks[0], None, None, e.marks[3]))
        for e in lock.solved
    )
    found = turning_marks(lock.but(marks=(*lock.marks[:3], later), solved=gone), SIZE)
    assert carry(np.reshape(found.at(12).homography, (3, 3)), FAR) == pytest.approx(carry(turned()[-1], FAR), abs=0.5)


def test_only_marks_turn_like_a_camera():
    assert Lock(id="a", name="A", reference_frame=0, kind="plane", motion="camera turn").moves == "perspective"
    assert not Lock(id="a", name="A", reference_frame=0, kind="plane", motion="camera turn").knows_camera
    assert Lock(id="a", name="A", reference_frame=0, motion="camera turn").knows_camera
    still = Lock(id="a", name="A", reference_frame=0, marks=(Mark(x=9, y=9),))
    assert turning_marks(still, SIZE).solved == ()
