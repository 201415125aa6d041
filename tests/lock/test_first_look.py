"""What a first look at a plate tells: what stands in its frame, how light falls off, how the lens bends; and that locks
on such plates are as good as on clean ones, and say so."""

from functools import lru_cache

import cv2
import numpy as np
import pytest

from lock_plates import box_mask, burnt_in, flat_plates, turning_plates
from zonal_mantle.geometry import camera_matrix, carry, distorted, undistorted
from zonal_mantle.lock import (
    LockError,
    follow_features,
    propose_marks,
    solve_camera,
    solve_pan,
    solve_plane,
    solve_point,
    solve_staying,
)
from zonal_mantle.lock.bend import bend_of
from zonal_mantle.lock.check import WithoutBlanks
from zonal_mantle.lock.falloff import distances, falloff_of, lifted
from zonal_mantle.lock.look import runs_of
from zonal_mantle.lock.standing import standing
from zonal_mantle.shot import Lens, Lock, Mark

SIZE, COUNT = (640, 360), 24
BOX = (13, 18, 627, 342)
BAR = 44


@lru_cache(maxsize=2)
def pan(seed=2):
    """A pan of 14° over coffee, a page and gravel."""
    return turning_plates(("coffee", "page", "gravel"), seed, SIZE, COUNT, 14.0, 38.0, 0.01)


def barred(frame, number):
    out = frame.copy()
    out[:BAR] = out[-BAR:] = 0
    return out


def dimmed(frame, number, corner=-0.5):
    far = distances(np.argwhere(np.ones(SIZE)) + 0.5, SIZE).reshape(SIZE).T
    return (frame * np.exp(corner * far**2)).astype(np.float32)


def bent(frame, number, bend=-0.02):
    rows, columns = np.mgrid[: SIZE[1], : SIZE[0]]
    seen = np.stack([columns.ravel(), rows.ravel()], axis=1) + 0.5
    places = (undistorted(seen, camera_matrix(SIZE[0] / 2, SIZE), bend) - 0.5).astype(np.float32)
    x, y = places.T.reshape(2, *rows.shape)
    return cv2.remap(frame, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)


def made(change, plates=None):
    return [change(frame, k) for k, frame in enumerate((plates or pan()).frames)]


def looked(frames):
    return runs_of(frames.__getitem__, range(len(frames)))


def off_px(solved, plates, seen_as=None):
    """Root mean square by which a lock misses where places of its reference frame went."""
    start = np.linalg.inv(plates.truth[solved.reference_frame])
    places = np.array([[x, y] for x in np.linspace(BOX[0], BOX[2], 5) for y in np.linspace(BOX[1], BOX[3], 4)])
    straight, back = seen_as or (lambda p: p, lambda p: p)
    out = []
    for entry in solved.solved:
        there = back(carry(plates.truth[entry.frame] @ start, straight(places)))
        ours = carry(np.reshape(entry.homography, (3, 3)), places)
        if solved.lens.distortion:
            k, bend = camera_matrix(solved.lens.focal_px, SIZE), solved.lens.distortion
            ours = distorted(carry(np.reshape(entry.homography, (3, 3)), undistorted(places, k, bend)), k, bend)
        inside = (there > 0).all(axis=1) & (there < SIZE).all(axis=1)
        out.append(((ours - there)[inside] ** 2).sum(axis=1).mean() if inside.any() else 0.0)
    return float(np.sqrt(np.mean(out)))


def said_px(solved):
    return float(np.sqrt(np.mean([entry.residual_px**2 for entry in solved.solved])))


@pytest.mark.parametrize("change", [barred, burnt_in])
def test_what_stands_in_the_frame_is_found_and_a_pan_lock_does_without_it(change):
    frames = made(change)
    stands = standing(looked(frames))
    where = np.s_[: BAR - 2] if change is barred else np.s_[314:340, 200:440]
    assert stands[where].mean() > 0.95
    assert stands[120:240].mean() < 0.01
    cover, mask = 1 - stands, box_mask(SIZE, BOX)
    lock = Lock(id="a", name="A", kind="pan", field_stays=True, reference_frame=12)
    solved = solve_pan(lock, frames.__getitem__, mask * cover, lambda frame: cover, range(COUNT))
    assert len(solved.solved) == COUNT
    assert off_px(solved, pan()) < 0.1  # without it: 26 to 80 px, or refused


def test_a_border_is_found_where_nothing_moves():
    frames = [barred(pan().frames[0], 0)] * COUNT
    stands = standing(looked(frames))
    assert stands[: BAR - 2].all()
    assert stands[60:300].max() == 0


def test_nothing_stands_on_a_clean_plate_or_a_short_one():
    assert standing(looked(pan().frames)) is None
    assert standing(looked(made(dimmed))) is None
    assert standing(looked(pan().frames[:3])) is None


@pytest.mark.parametrize(("name", "share"), [("astronaut", 0.75), ("grass", 0.6)])
def test_ground_that_stands_before_something_that_drifts_is_not_left_out(name, share):
    """A tripod: most of the picture drifts by as one, and what stands is what a lock is for."""
    ground, drifts = (flat_plates(each, 3, (900, 400), count=1).frames[0] for each in (name, "gravel"))
    top = round((1 - share) * SIZE[1])
    frames = []
    for k in range(COUNT):
        frame = ground[: SIZE[1], : SIZE[0]].copy()
        frame[top:] = drifts[top : SIZE[1], 5 * k : 5 * k + SIZE[0]]
        frames.append(frame)
    assert standing(looked(frames)) is None


def test_falloff_is_told_by_what_moves_and_a_lock_is_as_good_without_it():
    corner = -0.15
    frames = made(lambda frame, k: dimmed(frame, k, corner))
    found = falloff_of(looked(frames))
    assert found.sum() == pytest.approx(corner, abs=0.04)
    clear = [lifted(frame, found) for frame in frames]
    assert np.abs(clear[5] / np.maximum(pan().frames[5], 0.05) - 1)[pan().frames[5] > 0.05].max() < 0.04
    lock = Lock(id="a", name="A", kind="pan", field_stays=True, reference_frame=12)
    solved = solve_pan(lock, clear.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(COUNT))
    assert off_px(solved, pan()) < 0.05


def test_a_flash_or_a_clean_plate_is_no_falloff():
    assert falloff_of(looked(pan().frames)) is None
    frames = list(pan().frames)
    light = np.exp(-((np.arange(SIZE[0]) - 200.0) ** 2) / (2 * 150**2)).astype(np.float32)
    for k in (5, 12):
        frames[k] = np.clip(frames[k] + 0.6 * light, 0, 1)
    assert falloff_of(looked(frames)) is None


def test_a_lens_that_bends_the_other_way_is_told():
    assert bend_of(looked(made(lambda frame, k: bent(frame, k, 0.02)))) == pytest.approx(0.02, rel=0.15)


def test_a_lens_that_bends_is_told_and_a_pan_lock_takes_it_or_says_what_it_costs():
    """Without it, a bend of two per cent makes focal lengths wrong by a sixth to a third, at 0.07 px told."""
    bend = -0.02
    frames = made(bent)
    found = bend_of(looked(frames))
    assert found == pytest.approx(bend, rel=0.15)
    k, solved = camera_matrix(SIZE[0] / 2, SIZE), {}
    seen = (lambda p: undistorted(p, k, bend)), (lambda p: distorted(p, k, bend))
    for asked in (False, True):
        lock = Lock(id="a", name="A", kind="pan", field_stays=True, reference_frame=12,
                    lens=Lens(solve_distortion=asked))  # fmt: skip
        mask = box_mask(SIZE, BOX)
        solved[asked] = solve_pan(lock, frames.__getitem__, mask, lambda f: None, range(COUNT), bend=found)
    assert solved[True].lens.focal_px == pytest.approx(pan().focal_px, rel=0.05)
    assert abs(solved[False].lens.focal_px / pan().focal_px - 1) > 0.1
    assert off_px(solved[True], pan(), seen) < 0.6 * off_px(solved[False], pan(), seen)
    assert off_px(solved[False], pan(), seen) < said_px(solved[False])
    assert off_px(solved[True], pan(), seen) < 1.6 * said_px(solved[True])
    assert "Solve lens distortion" in solved[False].remarks[0]
    assert not solved[True].remarks


def test_a_field_that_stays_counts_what_no_homography_can_follow():
    frames = made(bent)
    lock = Lock(id="a", name="A", kind="plane", field_stays=True, reference_frame=12)
    solved = solve_staying(
        lock, frames.__getitem__, box_mask(SIZE, BOX), lambda f: None, range(COUNT), bend=bend_of(looked(frames))
    )
    k = camera_matrix(SIZE[0] / 2, SIZE)
    seen = (lambda p: undistorted(p, k, -0.02)), (lambda p: distorted(p, k, -0.02))
    assert off_px(solved, pan(), seen) < 1.2 * said_px(solved)
    assert "Undistort the plate" in solved.remarks[-1]


def test_a_straight_lens_is_not_said_to_bend():
    assert bend_of(looked(pan().frames)) is None
    assert bend_of(looked(flat_plates("brick", 4, SIZE, count=16, speed=0.8).frames)) is None


@pytest.mark.parametrize(("stays", "fault"), [(False, "cut"), (True, "black")])
def test_frames_that_show_nothing_are_gone_over_and_a_cut_is_not(stays, fault):
    plates = flat_plates("gravel", 5, SIZE, count=14, speed=0.8, grain=0.01)
    frames = list(plates.frames)
    for k in range(7, 14) if fault == "cut" else (7, 8):
        frames[k] = frames[k][::-1, ::-1].copy() if fault == "cut" else np.full_like(frames[k], 0.02)
    lock = Lock(id="a", name="A", kind="plane", field_stays=stays, reference_frame=2)
    solver = solve_staying if stays else solve_plane
    solved = solver(lock, frames.__getitem__, box_mask(SIZE, (60, 30, 580, 330)), lambda f: None, range(14))
    there = {entry.frame for entry in solved.solved}
    assert there == (set(range(7)) if fault == "cut" else set(range(14)) - {7, 8})
    assert len(solved.lost) == 1
    assert ("Found again on frame 9" in solved.lost[0]) == (fault == "black")
    assert off_px(solved, plates) < 0.15


def test_features_are_followed_over_frames_that_show_nothing():
    frames = [frame.copy() for frame in flat_plates("gravel", 5, SIZE, count=10, speed=0.8, grain=0.01).frames]
    frames[4][:] = 0.02
    frames[5][:] = 1.0
    filled = WithoutBlanks(frames.__getitem__)
    tracks = follow_features(filled, lambda frame: None, range(10))
    assert filled.blank == {4, 5}
    assert sum({3, 6} <= set(track.places) for track in tracks) > 100
    lock = Lock(id="c", name="C", kind="camera", reference_frame=5)
    with pytest.raises(LockError, match="Frame 5 is blank"):
        solve_camera(lock, frames.__getitem__, lambda frame: None, range(10))


def test_marks_go_over_frames_that_show_nothing():
    plates = flat_plates("gravel", 5, SIZE, count=14, speed=0.8, grain=0.01)
    frames = list(plates.frames)
    frames[7] = frames[8] = np.full_like(frames[7], 0.02)
    places = propose_marks(frames[2], (120, 60, 520, 300), 4)
    lock = Lock(id="a", name="A", kind="point", reference_frame=2, marks=tuple(Mark(x=x, y=y) for x, y in places))
    solved = solve_point(lock, frames.__getitem__, range(14))
    assert {entry.frame for entry in solved.solved} == set(range(14)) - {7, 8}
    assert solved.lost == ("Forward: lost on frame 7: the frame is blank. Found again on frame 9.",)
    start = np.linalg.inv(plates.truth[2])
    last = solved.at(13)
    truth = carry(plates.truth[13] @ start, np.array(places))
    assert np.linalg.norm(np.array(last.marks) - truth, axis=1).max() < 0.2
