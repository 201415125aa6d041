"""What does not go the way of a pan lock, of a field that stays, or of a plane counts as error and is said."""

import numpy as np
import pytest

from h264 import write_h264
from lock_plates import flat_plates, turning_plates
from stores import kept_pictures
from walls import walked_plates
from zonal_mantle.api import new
from zonal_mantle.comp import solve_lock
from zonal_mantle.geometry import carry
from zonal_mantle.lock.astray import astray
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import Lock, LockFrame

SIZE = (480, 270)
SAID = "does not move as the lock has it"


def locked(frames, tmp_path, kind="pan", quality=None, reference=0):
    """A lock on a whole frame, as a session solves it."""
    rgb = [np.repeat(frame[..., None], 3, axis=2) for frame in frames]
    if quality is None:
        for k, frame in enumerate(rgb):
            write_still(tmp_path / f"plate.{1001 + k}.png", frame)
    else:
        write_h264(tmp_path / "plate.mp4", [frame[: SIZE[1] // 2 * 2] for frame in rgb], quality)
    shot = new(tmp_path / ("plate.1001.png" if quality is None else "plate.mp4")).shot
    lock = Lock(
        id="l", name="L", kind="pan" if kind == "pan" else "plane", field_stays=kind == "staying",
        reference_frame=shot.first + reference,
    )  # fmt: skip
    return solve_lock(shot.with_lock(lock), "l", kept_pictures()).lock("l"), shot.first


def far_off(plates, lock, first):
    """By how much what is far, and the wall, slide, whichever is less, px on each frame."""
    middle = np.array(SIZE) / 2
    places = np.array([[x, y] for x in (60.0, 240, 420) for y in (50.0, 135, 220)])
    rays = np.column_stack([(places - middle) / plates.focal, np.ones(9)])
    out = []
    for entry in lock.solved:
        ours, ways = carry(np.reshape(entry.homography, (3, 3)), places), []
        for depth in (1e6, 30.0):
            there = plates.seen(rays * depth, entry.frame - first)
            inside = (np.abs(there - middle) < middle).all(axis=1)
            ways.append(np.sqrt(((ours - there)[inside] ** 2).sum(axis=1).mean()) if inside.any() else 0.0)
        out.append(min(ways))
    return np.array(out)


def moved_past_things(seed, count):
    return walked_plates(
        ("coffee", "gravel"), SIZE, count=count, pan_deg=8, away=1.5, returns=False, seed=seed, cards=9
    )


def test_a_camera_that_moves_past_things_is_no_turning_one(tmp_path):
    plates = moved_past_things(5, 12)
    lock, first = locked(plates.frames, tmp_path)
    assert any(SAID in words for words in lock.remarks)
    off, said = far_off(plates, lock, first), np.array([entry.residual_px for entry in lock.solved])
    assert off.max() > 1.5  # it is wrong, and more wrong than its own links know
    assert (said[off > 1.5] > 0.6 * off[off > 1.5]).all()


def test_a_field_that_stays_before_them_says_so_as_well(tmp_path):
    plates = moved_past_things(6, 16)
    lock, first = locked(plates.frames, tmp_path, "staying")
    assert far_off(plates, lock, first).max() > 5  # it follows what is near
    assert any(SAID in words for words in lock.remarks)


@pytest.mark.parametrize(("figure", "quality"), [(100, None), (0, 26)])
def test_of_a_camera_that_turns_nothing_is_said(figure, quality, tmp_path):
    plates = turning_plates(("gravel", "coffee"), 2, SIZE, count=10, pan_deg=12, grain=0.02, figure=figure)
    lock, _ = locked(plates.frames, tmp_path, quality=quality, reference=5)
    assert not any(SAID in words for words in lock.remarks)
    assert max(entry.residual_px for entry in lock.solved) < 1


def halves(names, seed, grain):
    """A frame whose two halves move apart, and the motions of both."""
    left, right = (flat_plates(name, seed + k, SIZE, 4, grain) for k, name in enumerate(names))
    frames = [np.hstack([a[:, : SIZE[0] // 2], b[:, SIZE[0] // 2 :]]) for a, b in zip(left.frames, right.frames)]
    return frames, (left.truth, right.truth)


def test_a_plane_whose_halves_move_apart_says_so(tmp_path):
    """Perspective fits two motions at once, a little: each is off by less than a plane's own residual notices."""
    frames, ways = halves(("camera", "gravel"), 4, 0.03)
    lock, first = locked(frames, tmp_path, "plane")
    assert any(SAID in words for words in lock.remarks)
    places = np.array([[x, y] for x in np.linspace(20, 460, 5) for y in np.linspace(20, 250, 4)])
    for entry in lock.solved:
        ours = carry(np.reshape(entry.homography, (3, 3)), places)
        off = min(np.sqrt(((ours - carry(way[entry.frame - first], places)) ** 2).sum(axis=1).mean()) for way in ways)
        assert off < 1.5 or entry.residual_px > 0.8, (entry.frame, off, entry.residual_px)
    again = locked_again(lock, tmp_path)
    assert [entry.residual_px for entry in again.solved] == [entry.residual_px for entry in lock.solved]


def test_of_a_field_that_is_too_small_for_blocks_nothing_is_said():
    feed = np.random.default_rng(3).random((90, 120), np.float32)
    solved = tuple(LockFrame(frame=k, homography=tuple(np.eye(3).ravel())) for k in range(3))
    lock = Lock(id="l", name="L", kind="plane", reference_frame=0, solved=solved)
    for y, x in ((0, 0), (2, 2), (90, 4), (30, 40)):
        field = np.zeros_like(feed)
        field[:y, :x] = 1
        assert astray(lock, lambda frame: feed, field, lambda frame: None).px == {}


def locked_again(lock, tmp_path):
    """The same lock, solved only where it is missing."""
    shot = new(tmp_path / "plate.1001.png").shot
    return solve_lock(shot.with_lock(lock), "l", kept_pictures(), missing_only=True).lock("l")


@pytest.mark.parametrize(("figure", "quality"), [(100, None), (0, 26)])
def test_of_a_plane_nothing_is_said(figure, quality, tmp_path):
    plates = flat_plates("gravel", 3, SIZE, 6, 0.02, figure)
    lock, _ = locked(plates.frames, tmp_path, "plane", quality)
    assert not any(SAID in words for words in lock.remarks)
    assert max(entry.residual_px for entry in lock.solved) < 1
