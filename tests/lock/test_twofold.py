"""What stands or passes in a plane lock's field, on the reference frame too."""

import cv2
import numpy as np
import pytest

from lock_plates import box_mask, corner_errors, finished, flat_plates
from zonal_mantle.geometry import carry
from zonal_mantle.lock import solve_plane
from zonal_mantle.lock.align import Area
from zonal_mantle.lock.level import pyramid
from zonal_mantle.lock.twofold import MUCH, seconds
from zonal_mantle.shot import Lock

SIZE, BOX, MIDDLE = (640, 360), (170, 105, 470, 255), 5
LOCK = Lock(id="wall", name="Wall", kind="plane", reference_frame=MIDDLE)


def with_figure(name, wide, step, count=11, seed=32):
    """A hand-held shot of a photograph; a dark bent figure before it stands in the middle on the reference frame."""
    plates, rng = flat_plates(name, seed, SIZE, count, grain=0, speed=0.5), np.random.default_rng(seed)
    rows = np.arange(SIZE[1]) + 0.5
    frames = []
    for t, frame in enumerate(plates.frames):
        middle = SIZE[0] / 2 + step * (t - MIDDLE) + 0.15 * wide * np.sin(rows / SIZE[1] * 9)
        inside = np.clip(wide / 2 - np.abs(np.arange(SIZE[0]) + 0.5 - middle[:, None]) + 0.5, 0, 1)
        frames.append(finished(np.float32(frame * (1 - inside) + 0.06 * inside), 0.015, rng))
    back = np.linalg.inv(plates.truth[MIDDLE])
    return frames, [motion @ back for motion in plates.truth]


def solved(frames, truth):
    """The lock, and true errors and what is said of them, px, of every frame but its own."""
    lock = solve_plane(LOCK, frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(len(frames)))
    moved = [entry for entry in lock.solved if entry.frame != MIDDLE]
    off = [corner_errors(np.reshape(entry.homography, (3, 3)), truth[entry.frame], BOX) for entry in moved]
    return lock, np.array(off), np.array([entry.residual_px for entry in moved])


def test_a_figure_that_stands_in_the_field_on_the_reference_frame_does_not_lose_it():
    _, off, told = solved(*with_figure("rocket", 60, 0))
    assert len(off) == 10
    assert off.max() < 0.15
    assert (off < 2 * told).all()


def test_where_half_of_the_field_is_a_figure_it_is_said_or_right():
    lock, off, told = solved(*with_figure("grass", 200, 6))
    assert not ((off > 1) & (told < 0.3)).any()
    assert len(off) == 10 or any(lock.lost)


def halves_apart():
    """Three frames whose halves go two ways."""
    pictures = [flat_plates(name, 32, SIZE, 1, grain=0).frames[0] for name in ("coffee", "page")]
    left, frames = np.arange(SIZE[0]) < 320, []
    for t in range(3):
        both = np.where(left, np.roll(pictures[0], -3 * t, axis=0), np.roll(pictures[1], 4 * t, axis=1))
        frames.append(finished(np.float32(both), 0.01, np.random.default_rng(t)))
    return frames


def test_what_did_not_stand_is_not_looked_into_again_when_another_guess_leads_to_it(monkeypatch):
    looked = []

    def noted(area, feeds, fit, cover=None):
        looked.append((id(feeds), carry(fit.homography, area.corners)))
        return seconds(area, feeds, fit, cover)

    monkeypatch.setattr("zonal_mantle.lock.plane.seconds", noted)
    frames, lock = halves_apart(), LOCK.but(reference_frame=0, shutter_deg=180.0)
    found = solve_plane(lock, frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(3))
    assert found.lost
    assert len(looked) > 1
    for k, (feeds, corners) in enumerate(looked):
        assert all(other != feeds or np.abs(corners - there).max() > 0.03 for other, there in looked[:k])


def test_two_halves_that_move_apart_are_named():
    frames, lock = halves_apart(), LOCK.but(reference_frame=0)
    found = solve_plane(lock, frames.__getitem__, box_mask(SIZE, BOX), lambda frame: None, range(3))
    assert len(found.solved) == 1
    assert "two things in the field move apart by" in found.lost[0]
    assert "leave the other out" in found.lost[0]


def test_what_crosses_is_no_second_thing_and_what_stands_is_one():
    """On the field's own frame there is nothing of what crosses later; what stood there is found again as a whole."""
    plates = flat_plates("grass", 33, SIZE, 3, grain=0.015, speed=0.5)
    area = Area(pyramid(plates.frames[0], 5), box_mask(SIZE, BOX))
    crossed = plates.frames[2].copy()
    cv2.rectangle(crossed, (290, 60), (350, 360), 0.06, -1)
    fit = area.find(pyramid(crossed, 5), plates.truth[2])
    assert fit is not None
    assert not seconds(area, pyramid(crossed, 5), fit)

    frames, truth = with_figure("rocket", 60, 0)
    area = Area(pyramid(frames[MIDDLE], 5), box_mask(SIZE, BOX))
    fit = area.find(pyramid(frames[8], 5), truth[8], top=2)
    assert fit is not None
    found = seconds(area, pyramid(frames[8], 5), fit)
    assert found
    assert 0.02 < found[0].share < MUCH
    middle = np.array([SIZE[0] / 2, SIZE[1] / 2])
    true = float(np.hypot(*(middle - carry(truth[8], middle[None])[0])))
    assert found[0].apart_px == pytest.approx(true, rel=0.2)


def test_a_texture_that_repeats_is_no_second_thing_where_something_covers_it():
    plates = flat_plates("brick", 1, (1280, 720), 24, grain=0.015, figure=120.0, only=(0, 15))
    area = Area(pyramid(plates.frames[0], 5), box_mask((1280, 720), (340, 210, 940, 510)))
    feeds = pyramid(plates.frames[15], 5)
    fit = area.find(feeds, plates.truth[15], top=2)
    assert fit is not None
    assert not [other for other in seconds(area, feeds, fit) if other.share > MUCH]
