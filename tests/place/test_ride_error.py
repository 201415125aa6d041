"""How far what rides on a lock may be off where it is seen: against what a turning camera films."""

import numpy as np
import pytest

from hung import FOCAL, MARKS, SIZE, marked, pan, shot_with, turn_at, walk
from zonal_mantle.geometry import carry
from zonal_mantle.lock import turning_marks
from zonal_mantle.lock.runs import flat
from zonal_mantle.place.ride_error import ride_errors
from zonal_mantle.shot import Correction, Follow, Keyed, Lens, Lock, LockFrame, Shape, ShapeKey

PLACES = np.array([[x, y] for x in (5.0, 320.0, 635.0) for y in (5.0, 90.0)])


def errors(lock, frame=12, distance=None, **placed):
    shot = shot_with(lock, (640, 360), 12, distance, **placed)
    return ride_errors(shot, shot.zone("z"), frame, PLACES)


def missed(lock, frame=12):
    """How far the sky truly is from where it would have been filmed."""
    motion = np.reshape(lock.at(frame).homography, (3, 3))
    return np.linalg.norm(carry(turn_at(frame - 1) @ np.linalg.inv(motion), PLACES) - PLACES, axis=1)


def test_a_sky_on_two_marks_is_said_to_be_off_by_what_it_is():
    lock = marked()
    true = missed(lock)
    assert true.max() > 5
    assert errors(lock).bent == pytest.approx(true, rel=0.15, abs=0.3)
    assert errors(lock, 1).most == pytest.approx(np.zeros(6))  # on the reference frame nothing is


def test_marks_that_turn_like_a_camera_are_off_by_no_more_than_is_said():
    lock = turning_marks(marked(), SIZE)
    found = errors(lock)
    assert np.isnan(found.bent).all()
    assert (missed(lock) <= found.most).all()
    assert found.most.max() < 3
    given = turning_marks(marked(lens=Lens(focal_px=FOCAL, given=True)), SIZE)
    assert (errors(given).most < found.most).all()
    assert missed(given).max() < 0.01
    for times in (0.7, 0.8, 1.25, 1.5):  # given wrongly
        wrong = turning_marks(marked(lens=Lens(focal_px=FOCAL * times, given=True)), SIZE)
        assert missed(wrong).max() > 3
        assert (missed(wrong) <= errors(wrong).most).all()


def test_one_mark_takes_a_wide_lens_for_a_sky_and_says_nothing_of_what_is_near():
    lock = marked(MARKS[:1])
    assert (errors(lock).most >= missed(lock)).mean() > 0.8
    assert np.isnan(errors(lock, distance=60.0).bent).all()


def test_another_locks_lens_tells_how_a_sky_bends():
    lock, other = marked(MARKS[:1]), pan(12)
    shot = shot_with(lock, (640, 360), 12)
    shot = shot.but(locks=(*shot.locks, other))
    found = ride_errors(shot, shot.zone("z"), 12, PLACES)
    assert found.bent.max() < errors(lock).bent.max()  # FOCAL is longer than a wide lens


def test_a_shift_of_marks_is_as_sure_all_over_and_a_fuller_motion_is_not():
    four = ((180.0, 240.0), (470.0, 250.0), (250.0, 300.0), (400.0, 320.0))
    spread = [errors(marked(four, motion=motion)).spread for motion in ("translation", "similarity", "affine")]
    assert np.ptp(spread[0]) < 1e-9
    assert (spread[0] < spread[1]).all()
    assert (spread[1] < spread[2]).all()


def test_smoothing_is_no_bend():
    plain, smooth = marked(), marked(smooth_frames=3.0)
    assert errors(smooth).bent == pytest.approx(errors(plain).bent)


def test_what_a_person_did_is_not_judged():
    assert np.isnan(errors(marked(correction=Correction(x=Keyed(constant=2.0)))).bent).all()
    assert np.isnan(errors(marked(), follow=Follow(turn=False)).bent).all()
    by_hand = Lock(id="h", name="H", kind="by hand", reference_frame=1)
    assert errors(by_hand) is None


def test_marks_that_slide_without_turning_bend_nothing():
    lock = marked()
    places = np.array(MARKS)
    slid = tuple(
        e.but(
            homography=(1, 0, 9.0 * (e.frame - 1), 0, 1, 0, 0, 0, 1),
            marks=tuple(map(tuple, (places + (9.0 * (e.frame - 1), 0)).tolist())),
        )
        for e in lock.solved
    )
    assert np.nan_to_num(errors(lock.but(solved=slid), distance=60.0).bent).max() < 1.0


def test_a_small_field_says_little_of_what_is_far_from_it_and_a_large_one_much():
    def planed(x0, y0, x1, y1, **more):
        key = ShapeKey(frame=1, points=((x0, y0), (x1, y0), (x1, y1), (x0, y1)))
        solved = tuple(
            LockFrame(frame=1 + n, homography=flat(turn_at(n)), residual_px=0.1 if n else 0) for n in range(12)
        )
        field = (Shape(id="f", name="F", keys=(key,)),)
        return Lock(id="m", name="M", kind="plane", reference_frame=1, field=field, solved=solved, **more)

    small, large = errors(planed(300, 250, 380, 300)), errors(planed(10, 10, 630, 350))
    assert large.spread.max() < 0.5
    assert small.spread.max() > 5
    assert errors(planed(300, 250, 380, 300, motion="affine")).spread.max() < small.spread.max()
    assert np.isnan(small.bent).all()  # a homography does what a turn does
    still = errors(planed(10, 200, 630, 350, field_stays=True))
    assert 0.2 <= still.spread.max() < 5


def test_locks_that_know_the_camera_are_as_good_all_over():
    assert errors(pan(12)).most.max() == 0  # that one is exact
    unsure = walk(12)
    unsure = unsure.but(solved=tuple(e.but(residual_px=0.2) for e in unsure.solved))
    assert errors(unsure).most == pytest.approx(np.full(6, 0.4))


def test_locks_that_came_without_marks_or_with_odd_ones_are_judged_all_the_same():
    lock = marked()
    bare = lock.but(marks=(), solved=tuple(e.but(marks=()) for e in lock.solved))
    assert (errors(bare).most > 0.7 * missed(bare)).all()
    assert turning_marks(bare, SIZE) == bare  # there is nothing to turn by
    for odd in (
        lock.but(solved=tuple(e.but(residual_px=0.0) for e in lock.solved)),
        lock.but(marks=tuple(mark.but(frame=5) for mark in lock.marks)),
        lock.but(reference_frame=99),
        marked(((300.0, 200.0), (300.0, 200.001))),
    ):
        for each in (odd, turning_marks(odd, SIZE)):
            assert np.isfinite(errors(each).most).all()
    assert errors(lock.but(solved=lock.solved[:1])) is None
