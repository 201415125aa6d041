"""Burnt-in words and lines before pictures so soft that no feature tells how they move: photographs of scikit-image,
out of focus."""

from dataclasses import replace
from functools import lru_cache

import cv2
import numpy as np
import pytest

from lock_plates import box_mask, burnt_in, corner_errors, finished, photograph, turning_plates
from zonal_mantle.geometry import carry
from zonal_mantle.lock import solve_pan
from zonal_mantle.lock.look import runs_of
from zonal_mantle.lock.standing import standing
from zonal_mantle.lock.standing_soft import parts_of, soft_motion
from zonal_mantle.shot import Lock

SIZE, COUNT, BOX = (640, 360), 16, (13, 18, 627, 342)


@lru_cache(maxsize=1)
def soft_pan():
    """A pan of 9° over photographs that are far out of focus."""
    return turning_plates(("chelsea", "moon", "coffee"), 4, SIZE, COUNT, 9.0, 38.0, 0.01, soft_px=6.0)


def guided(frame, number):
    out = frame.copy()
    cv2.rectangle(out, (60, 40), (580, 320), 0.9, 1)
    return out


def looked(frames):
    """Runs whose features tell nothing, as they do of a picture that has none."""
    return [replace(run, motion=None, ends=None) for run in runs_of(frames.__getitem__, range(len(frames)))]


@pytest.mark.parametrize("change", [burnt_in, guided])
def test_what_is_burnt_in_before_a_soft_picture_is_found_and_a_lock_does_without_it(change):
    plates = soft_pan()
    frames = [change(frame, k) for k, frame in enumerate(plates.frames)]
    stands = standing(looked(frames))
    where = np.s_[312:343, 192:448] if change is burnt_in else np.s_[40, 62:578]
    assert stands[where].mean() > 0.95
    assert stands[100:260, 100:540].max() == 0
    cover, mask = 1 - stands, box_mask(SIZE, BOX)
    lock = Lock(id="a", name="A", kind="pan", field_stays=True, reference_frame=8)
    solved = solve_pan(lock, frames.__getitem__, mask * cover, lambda frame: cover, range(COUNT))
    back = np.linalg.inv(plates.truth[8])
    off = [corner_errors(np.reshape(e.homography, (3, 3)), plates.truth[e.frame] @ back, BOX) for e in solved.solved]
    assert len(off) == COUNT
    assert np.median(off) < 0.3  # with it: tens of pixels, or refused


def test_nothing_stands_before_a_clean_soft_picture():
    assert standing(looked(soft_pan().frames)) is None


def misty(laid_over):
    """Rocks that stand in a mist which drifts by; or the same laid over it when it has its grain."""
    rng = np.random.default_rng(5)
    mist = cv2.GaussianBlur(photograph("moon", 1024), (0, 0), 14)
    mist = 0.5 + 2.5 * (mist - mist.mean())
    y, x = np.mgrid[: SIZE[1], : SIZE[0]]
    rocks = np.zeros((SIZE[1], SIZE[0]), np.float32)
    for k in range(4):
        away = np.hypot((x - 110 - 130 * k) / 30, (y - 190 - 25 * (k % 2)) / 18)
        rocks = np.maximum(rocks, np.clip((1 - away) * 12, 0, 1).astype(np.float32))
    stone = 0.25 + 0.3 * cv2.resize(photograph("gravel", 640), SIZE)
    frames = []
    for k in range(COUNT):
        drift = mist[300 : 300 + SIZE[1], 100 + 6 * k : 100 + 6 * k + SIZE[0]]
        if laid_over:
            frames.append(np.where(rocks > 0.5, stone, finished(drift, 0.012, rng)).astype(np.float32))
        else:
            frames.append(finished(drift * (1 - rocks) + stone * rocks, 0.012, rng))
    return frames, rocks > 0.5


def test_ground_that_has_its_pictures_grain_is_not_taken_for_burnt_in():
    frames, _ = misty(laid_over=False)
    assert standing(looked(frames)) is None
    frames, rocks = misty(laid_over=True)
    assert standing(looked(frames))[rocks].mean() > 0.9


def test_how_a_soft_picture_moves_is_told_by_all_of_it():
    frames, rocks = misty(laid_over=True)
    run = looked(frames)[0]
    went = {3: 2, 4: 4, 5: 8}[len(run.codes)]  # frames
    motion = soft_motion(run, cv2.dilate(rocks.astype(np.uint8), np.ones((9, 9))) > 0)
    middle = np.array([[SIZE[0] / 2, SIZE[1] / 2]])
    assert (carry(motion, middle) - middle)[0] == pytest.approx([-6 * went, 0], abs=3)
    still = [frames[0], *frames[:1] * 4]
    assert soft_motion(looked(still)[0], rocks) is None


def test_what_touches_a_side_or_is_much_of_the_frame_is_no_burnt_in_thing():
    edges = np.zeros((90, 160), bool)
    edges[40:44, 50:90] = True
    assert len(parts_of(edges, 3)) == 1
    edges[60:64, 100:] = True  # a shore
    assert len(parts_of(edges, 3)) == 1
    edges[10:26, 10:150] = edges[28:38, 10:150] = True
    assert parts_of(edges, 3) == []
