"""Point locks with many marks: agreement, hand-over, renewal."""

from functools import cache

import cv2
import numpy as np
import pytest

from lock_plates import corner_errors, flat_plates
from zonal_mantle.geometry import carry
from zonal_mantle.lock import LockError, solve_point
from zonal_mantle.shot import Lock, Mark

SIZE, BOX = (640, 360), (170, 90, 470, 270)
PLACES = [(180.0, 100.0), (330.0, 110.0), (450.0, 120.0), (200.0, 250.0), (340.0, 262.0), (460.0, 240.0)]


@cache
def plates():
    return flat_plates("coffee", 6, SIZE, count=10, grain=0.008, speed=0.7)


def marks(places=PLACES, **more):
    return tuple(Mark(x=x, y=y, patch=(22, 22), reach=(18, 18), **more) for x, y in places)


def solve(lock, frames=None):
    frames = frames or plates().frames
    return solve_point(lock, lambda f: frames[f], range(len(frames)))


def worst(lock):
    found = [np.array(e.homography).reshape(3, 3) for e in lock.solved]
    return max(corner_errors(m, plates().truth[e.frame], BOX) for m, e in zip(found, lock.solved))


LOCK = Lock(id="a", name="Cup", reference_frame=0, marks=marks())


def test_many_marks_tell_a_fuller_motion():
    lock = solve(LOCK.but(motion="perspective"))
    assert len(lock.solved) == 10
    assert worst(lock) < 1.0


def test_one_mark_that_goes_astray_does_not_take_the_lock_along():
    frames = [frame.copy() for frame in plates().frames]
    for k, frame in enumerate(frames):  # a sticker that wanders off with the pattern of the third mark
        x = 450 + 4 * k
        frame[100:140, x - 20 : x + 20] = plates().frames[0][100:140, 430:470]
    lock = solve(LOCK.but(motion="similarity"), frames)
    clean = solve(LOCK.but(motion="similarity"))
    last = [np.array(each.at(9).homography).reshape(3, 3) for each in (lock, clean)]
    assert corner_errors(*last, BOX) < 0.6


def test_a_covered_mark_hands_over_to_one_that_is_set_later():
    frames = [frame.copy() for frame in plates().frames]
    for frame in frames[6:]:
        frame[:, :260] = 0.1  # the left of the picture is covered
    near = [(200.0, 110.0), (210.0, 250.0)]
    alone = solve(Lock(id="a", name="Cup", reference_frame=0, marks=marks(near)), frames)
    assert alone.solved[-1].frame == 5
    assert "frame 6" in alone.lost[0]
    held = np.array(alone.at(4).homography).reshape(3, 3)
    later = marks([(420.0, 130.0), (440.0, 230.0)], frame=4)
    both = solve(alone.but(marks=(*alone.marks, *later)), frames)
    assert both.solved[-1].frame == 9
    assert both.at(9).marks[0] is None
    assert both.at(9).marks[2] is not None
    assert np.array(both.at(4).homography).reshape(3, 3) == pytest.approx(held, abs=1e-9)
    assert corner_errors(np.array(both.at(9).homography).reshape(3, 3), plates().truth[9], BOX) < 1.5


def test_a_pattern_taken_anew_drifts_and_says_so():
    two = LOCK.but(marks=(LOCK.marks[1], LOCK.marks[5]))
    held, anew = solve(two), solve(two.but(renewal="renew every frame"))
    assert len(anew.solved) == 10
    grown = [lock.at(9).residual_px - lock.at(1).residual_px for lock in (held, anew)]
    assert anew.at(9).residual_px > anew.at(3).residual_px > anew.at(1).residual_px
    assert grown[1] > 0


def test_marks_that_all_belong_to_other_frames_are_refused():
    with pytest.raises(LockError, match="no mark on frame 0"):
        solve(LOCK.but(marks=marks(frame=3)))


def test_where_one_of_two_marks_is_lost_it_stops_rather_than_lose_turn_and_size():
    frames = [frame.copy() for frame in plates().frames]
    for frame in frames[5:]:
        frame[:, :260] = 0.1
    lock = solve(LOCK.but(marks=(LOCK.marks[3], LOCK.marks[5])), frames)
    assert lock.solved[-1].frame == 4
    assert "mark 1" in lock.lost[0]


def test_a_mark_that_moves_farther_than_its_reach_from_the_first_frame_on_is_found():
    """At steps of 22 px, without blur: there is no shutter to make up for."""
    plates = flat_plates("page", 32, (1280, 720), count=5, grain=0.01, shutter=0)
    x, y = 716.5, 396.5
    lock = Lock(id="a", name="Page", reference_frame=0, marks=(Mark(x=x, y=y),), motion="translation")
    found = solve_point(lock, plates.frames.__getitem__, range(5))
    assert len(found.solved) == 5
    for entry in found.solved[1:]:
        off = np.array(entry.marks[0]) - carry(plates.truth[entry.frame], np.array([[x, y]]))[0]
        assert np.hypot(*off) < min(0.15, 2.5 * entry.residual_px)
        assert entry.confidence <= 0.94


def test_a_mark_that_looks_like_two_places_is_refused_in_words():
    rng = np.random.default_rng(2)
    sheet = cv2.GaussianBlur(rng.normal(0.5, 0.2, (220, 300)).astype(np.float32), (0, 0), 2)
    sheet[80:140, 160:220] = sheet[80:140, 100:160]  # the same again, 60 px on
    frames = [sheet + rng.normal(0, 0.005, sheet.shape).astype(np.float32) for _ in range(2)]
    lock = Lock(id="a", name="Twin", reference_frame=0, marks=(Mark(x=130, y=110, patch=(14, 14), reach=(24, 24)),))
    found = solve_point(lock, frames.__getitem__, range(2))
    assert len(found.solved) == 1
    assert "looks like two places, 60 px apart" in found.lost[0]
    alone = lock.but(marks=(lock.marks[0].but(reach=(15, 15)),))
    assert len(solve_point(alone, frames.__getitem__, range(2)).solved) == 2
