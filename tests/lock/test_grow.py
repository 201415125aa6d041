"""Cameras that go far: scenes grown frame by frame, turned the right way round, features found again."""

import cv2
import numpy as np
import pytest

from tracked import FOCAL, SIZE, travelled, walked
from walls import walked_plates
from zonal_mantle.lock import follow_features, solve_camera
from zonal_mantle.lock.again import found_again
from zonal_mantle.lock.bundle import adjust
from zonal_mantle.lock.camera import camera_from_tracks
from zonal_mantle.lock.errors import OnlyTurned
from zonal_mantle.lock.features import Track
from zonal_mantle.lock.scene import error_of, inside_out, views_of, with_points
from zonal_mantle.shot import Lock

LOCK = Lock(id="cam", name="Cam", kind="camera", reference_frame=1)


def quiet(share, words):
    pass


def apart(lock, turns, places, reference):
    """How far a lock's places, at the best scale, are from the truth, of the farthest way; and its turns, degrees."""
    at = [entry.frame - reference for entry in lock.solved]
    base = next(k for k, entry in enumerate(lock.solved) if entry.frame == lock.reference_frame)
    true = (places[at] - places[at[base]]) @ turns[at[base]].T
    found = np.array([entry.position for entry in lock.solved])
    grown = found * ((found * true).sum() / (found**2).sum())
    angles = [
        np.linalg.norm(cv2.Rodrigues(cv2.Rodrigues(np.array(entry.rotation))[0] @ (turns[k] @ turns[at[base]].T).T)[0])
        for entry, k in zip(lock.solved, at)
    ]
    return np.abs(grown - true).max() / np.linalg.norm(true, axis=1).max(), np.degrees(max(angles))


@pytest.mark.parametrize(("kind", "turn", "reference"), [("orbit", 300, 20), ("street", 20, 1), ("forward", 20, 1)])
def test_a_camera_that_goes_far_is_followed_to_the_end(kind, turn, reference):
    """None of the first frame's features is seen at last. These were refused, turned inside out, or had a lens that was
    five times too long."""
    tracks, turns, places = travelled(kind, turn=turn, frames=36, count=300)
    lock = camera_from_tracks(LOCK.but(reference_frame=reference), tracks, range(1, 37), SIZE, quiet)
    assert len(lock.solved) == 36
    assert lock.lost == ()
    assert lock.lens.focal_px == pytest.approx(FOCAL, rel=0.02)
    low, high = lock.lens.bounds_px
    assert low < FOCAL < high
    off, angle = apart(lock, turns, places, 1)
    assert off < 0.005
    assert max(np.linalg.norm(entry.position) for entry in lock.solved) == pytest.approx(1, rel=0.2)
    assert angle < 0.3


def test_beyond_a_cut_a_camera_is_lost_and_says_so():
    """Features on either side of it, none on both."""
    tracks, turns, places = travelled("street", frames=30, count=300)
    parts = [
        Track({frame: at for frame, at in track.places.items() if (frame > 20) == late})
        for track in tracks for late in (False, True)
    ]  # fmt: skip
    lock = camera_from_tracks(LOCK, [each for each in parts if each.life >= 6], range(1, 31), SIZE, quiet)
    assert [entry.frame for entry in lock.solved] == list(range(1, 21))
    assert any("lost on frame 21" in words for words in lock.lost)
    assert apart(lock, turns, places, 1)[0] < 0.01


@pytest.mark.parametrize("seed", [2, 3])
def test_a_short_way_is_not_turned_inside_out(seed):
    """Near and far exchanged, and the camera going the other way, look nearly the same where the way is short."""
    tracks, _, places = walked(seed=seed, way=(0.03, 0, 0), noise=0.1)
    lock = camera_from_tracks(LOCK, tracks, range(1, 21), SIZE, quiet)
    found = np.array([entry.position for entry in lock.solved])
    assert (found * places).sum() > 0.8 * np.linalg.norm(found) * np.linalg.norm(places)
    assert np.mean([point.place[2] > 0 for point in lock.points]) > 0.95


@pytest.fixture(scope="module")
def returned():
    return walked_plates(count=24, size=(400, 225), seed=6)


def test_a_scene_turned_inside_out_is_told_by_its_error(returned):
    """Cards before a wall, near and far exchanged, fit less well, or lie beyond infinity."""
    tracks = follow_features(returned.frames.__getitem__, lambda frame: None, range(24))
    middle, index = np.array([400, 225]) / 2, {frame: frame for frame in range(24)}
    true, used = with_points(tracks, index, returned.turns, returned.places / 1.6, returned.focal, middle)
    views = views_of(used, index, middle)
    true = adjust(true, views, True, rounds=10)
    wrong = adjust(inside_out(true), views, True, rounds=30)
    assert error_of(true, views) < 0.5
    assert error_of(wrong, views) > 1.1 * error_of(true, views)


def test_features_that_come_back_are_found_again_and_close_the_loop(returned):
    """The camera comes back to where it began: tracks live longer, and the last frame is where the first was."""
    size, frames = (400, 225), range(24)
    tracks = follow_features(returned.frames.__getitem__, lambda frame: None, frames)
    lock = LOCK.but(reference_frame=0)
    plain = camera_from_tracks(lock, tracks, frames, size, quiet)
    closed = solve_camera(lock, returned.frames.__getitem__, lambda frame: None, frames)
    lives = [np.mean([point.seen for point in each.points]) for each in (plain, closed)]
    assert lives[1] > 1.08 * lives[0]
    for each in (plain, closed):
        assert apart(each, returned.turns, returned.places, 0)[0] < 0.03
    ends = []
    for each in (plain, closed):
        found, true = np.array([entry.position for entry in each.solved]), returned.places
        grown = found * ((found * true).sum() / (found**2).sum())
        ends.append(np.linalg.norm(grown[-1] - true[-1]))
    assert max(ends) < 0.002  # metres, of 1.6 that it went


def test_what_is_found_again_lies_where_it_is(returned):
    tracks = follow_features(returned.frames.__getitem__, lambda frame: None, range(24))
    middle, index = np.array([400, 225]) / 2, {frame: frame for frame in range(24)}
    scene, used = with_points(tracks, index, returned.turns, returned.places, returned.focal, middle)
    more = found_again(scene, used, list(range(24)), returned.frames.__getitem__, lambda frame: None)
    off = []
    for old, new, point in zip(used, more, scene.points):
        assert old.places.items() <= new.places.items()
        for frame in new.places.keys() - old.places.keys():
            off.append(np.hypot(*(returned.seen(point[None, :3] / point[3], frame)[0] - new.places[frame])))
    assert len(off) > 200
    assert np.median(off) < 0.3
    assert np.mean(np.array(off) > 2) < 0.1


def drifting(way, drift):
    """Tracks of a small way that drift by as much as depths move them; and where the camera truly was."""
    rng = np.random.default_rng(1)
    tracks, _, places = walked(seed=1, way=(way, 0, 0), noise=0.1, sway=0.0)
    out = []
    for track in tracks:
        x, y = rng.normal(0, drift, 2) / 20
        out.append(Track({frame: (at[0] + frame * x, at[1] + frame * y) for frame, at in track.places.items()}))
    return out, places


def test_where_near_and_far_cannot_be_told_apart_it_is_said_or_the_error_is_large():
    tracks, places = drifting(0.06, 1.2)
    lock = camera_from_tracks(LOCK, tracks, range(1, 21), SIZE, quiet)
    found = np.array([entry.position for entry in lock.solved])
    right = (found * places).sum() > 0
    assert right or any("Near and far may be exchanged" in words for words in lock.lost)
    assert max(entry.residual_px for entry in lock.solved) > 1


def test_where_turning_alone_is_the_better_lock_it_is_offered():
    """A way of a hundredth of the nearest distance."""
    with pytest.raises(OnlyTurned, match=r"explains the features to 0\.\d+ px.*could be off by \d"):
        camera_from_tracks(LOCK, drifting(0.03, 0.6)[0], range(1, 21), SIZE, quiet)


class Stop(Exception):
    """Somebody cancels."""


def stopping_at(part):
    def progress(share, words):
        if part in words:
            raise Stop

    return progress


def test_it_can_be_cancelled_while_frames_are_added():
    tracks, _, _ = travelled("street", frames=36, count=300)
    with pytest.raises(Stop):
        camera_from_tracks(LOCK, tracks, range(1, 37), SIZE, stopping_at("of the frames"))


def test_it_can_be_cancelled_while_features_are_found_again(returned):
    lock = LOCK.but(reference_frame=0)
    with pytest.raises(Stop):
        solve_camera(
            lock, returned.frames.__getitem__, lambda frame: None, range(24), stopping_at("features found again")
        )
