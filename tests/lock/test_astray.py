"""What does not go the way of a pan lock, or of a field that stays, counts as error and is said."""

import numpy as np
import pytest

from h264 import write_h264
from lock_plates import turning_plates
from stores import kept_pictures
from walls import walked_plates
from zonal_mantle.api import new
from zonal_mantle.comp import solve_lock
from zonal_mantle.geometry import carry
from zonal_mantle.media.still import write_still
from zonal_mantle.shot import Lock

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
        id="l", name="L", kind="pan" if kind == "pan" else "plane", field_stays=kind != "pan",
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


def moved_past_things(seed):
    return walked_plates(("coffee", "gravel"), SIZE, count=16, pan_deg=8, away=1.5, returns=False, seed=seed, cards=9)


def test_a_camera_that_moves_past_things_is_no_turning_one(tmp_path):
    plates = moved_past_things(5)
    lock, first = locked(plates.frames, tmp_path)
    assert any(SAID in words for words in lock.remarks)
    off, said = far_off(plates, lock, first), np.array([entry.residual_px for entry in lock.solved])
    assert off.max() > 1.5  # it is wrong, and more wrong than its own links know
    assert (said[off > 1.5] > 0.6 * off[off > 1.5]).all()


def test_a_field_that_stays_before_them_says_so_as_well(tmp_path):
    plates = moved_past_things(6)
    lock, first = locked(plates.frames, tmp_path, "staying")
    assert far_off(plates, lock, first).max() > 5  # it follows what is near
    assert any(SAID in words for words in lock.remarks)


@pytest.mark.parametrize(("figure", "quality"), [(0, None), (100, None), (0, 26)])
def test_of_a_camera_that_turns_nothing_is_said(figure, quality, tmp_path):
    plates = turning_plates(("gravel", "coffee"), 2, SIZE, count=14, pan_deg=12, grain=0.02, figure=figure)
    lock, _ = locked(plates.frames, tmp_path, quality=quality, reference=7)
    assert not any(SAID in words for words in lock.remarks)
    assert max(entry.residual_px for entry in lock.solved) < 1
