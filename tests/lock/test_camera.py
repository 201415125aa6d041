"""The moving camera: Jacobian, bundle adjustment on made-up scenes, what is refused, units."""

import cv2
import numpy as np
import pytest

from tracked import FOCAL, SIZE, laid_out, small_scene, walked
from zonal_mantle.lock import LockError, scaled
from zonal_mantle.lock.bundle import Problem, Scene, adjust, pictured
from zonal_mantle.lock.camera import camera_from_tracks, static_tracks
from zonal_mantle.lock.features import Track, follow_features
from zonal_mantle.lock.scene import two_view
from zonal_mantle.shot import Lens, Lock

LOCK = Lock(id="cam", name="Cam", kind="camera", reference_frame=1)


@pytest.mark.parametrize(("focal", "bend"), [(True, True), (True, False), (False, False)])
def test_the_jacobian_agrees_with_finite_differences(focal, bend):
    scene, views = small_scene()
    problem = Problem(scene, views, focal, bend)
    values = problem.start() + np.random.default_rng(3).normal(0, 0.01, problem.size)
    exact = laid_out(problem, problem.slopes(values))
    step = 1e-6
    for column in range(0, problem.size, 3):
        nudge = np.zeros(problem.size)
        nudge[column] = step
        numeric = (problem.residuals(values + nudge) - problem.residuals(values - nudge)) / (2 * step)
        assert exact[:, column] == pytest.approx(numeric, abs=2e-3 * max(1, np.abs(numeric).max()))


def test_bundle_adjustment_recovers_a_scene_from_a_bad_start():
    scene, views = small_scene(cameras=6, points=60)
    rng = np.random.default_rng(2)
    turns = np.array([cv2.Rodrigues(rng.normal(0, 0.01, 3) * (k > 0))[0] @ t for k, t in enumerate(scene.turns)])
    places = scene.places + rng.normal(0, 0.05, scene.places.shape) * (np.arange(6)[:, None] > 0)
    points = scene.points * np.insert(rng.normal(1, 0.2, (60, 3)), 2, 1, axis=1)
    found = adjust(Scene(FOCAL * 1.08, -0.03, turns, places, points), views, True, rounds=60, least_gain=1e-9)
    assert np.abs(pictured(found, views) - views.seen).max() < 0.05
    assert found.focal_px == pytest.approx(FOCAL, rel=2e-3)
    grow = (found.places * scene.places).sum() / (found.places**2).sum()
    assert found.places * grow == pytest.approx(scene.places, abs=2e-3)


def quiet(share, words):
    pass


@pytest.mark.parametrize("way", [(0.6, 0.0, 0.1), (0.1, 0.0, 1.5)])
def test_a_walk_is_solved_with_its_focal_length(way):
    tracks, turns, places = walked(way=way, moving=12)
    lock = camera_from_tracks(LOCK, tracks, range(1, 21), SIZE, quiet)
    assert lock.lens.focal_px == pytest.approx(FOCAL, rel=0.015)
    assert np.sqrt(np.mean([e.residual_px**2 for e in lock.solved])) < 0.35
    found = np.array([e.position for e in lock.solved])
    grow = (found * places).sum() / (found**2).sum()
    assert np.abs(found * grow - places).max() < 0.03 * np.linalg.norm(places, axis=1).max() + 0.01
    for entry, turn in zip(lock.solved, turns):
        apart = cv2.Rodrigues(cv2.Rodrigues(np.array(entry.rotation))[0] @ (turn @ turns[0].T).T)[0]
        assert np.degrees(np.linalg.norm(apart)) < 0.15


def test_a_camera_is_there_whole_before_it_is_done():
    tracks, _, _ = walked(moving=12)
    seen = []
    done = camera_from_tracks(LOCK, tracks, range(1, 21), SIZE, quiet, lambda made: seen.append(made()))
    assert len(seen) >= 3
    assert all(len(each.solved) == 20 and each.points for each in seen)
    assert seen[-1].lens.focal_px == pytest.approx(done.lens.focal_px, rel=0.05)


def test_what_moves_by_itself_is_thrown_out():
    tracks, _, _ = walked(moving=20)
    still = static_tracks(tracks, range(1, 21), 1)
    gone = [t for t in tracks if all(t is not s for s in still)]
    assert len(gone) >= 12
    assert len(still) > 100


def test_a_camera_that_only_turned_is_told_so():
    tracks, _, _ = walked(way=(0, 0, 0), noise=0.05)
    for track in tracks:  # the small sway of the walk is taken out by standing on the spot
        track.places = dict(track.places)
    rng = np.random.default_rng(4)
    rays = np.column_stack([rng.uniform(-0.5, 0.5, 120), rng.uniform(-0.28, 0.28, 120), np.ones(120)])
    turned = [Track() for _ in rays]
    for k in range(20):
        local = rays @ cv2.Rodrigues(np.radians([0.1 * k, 0.5 * k, 0.05 * k]))[0].T
        at = local[:, :2] / local[:, 2:] * FOCAL + np.array(SIZE) / 2 + rng.normal(0, 0.05, (120, 2))
        for track, (x, y) in zip(turned, at):
            if 0 < x < SIZE[0] and 0 < y < SIZE[1]:
                track.places[k + 1] = (float(x), float(y))
    with pytest.raises(LockError, match=r"only turned.*pan lock"):
        camera_from_tracks(LOCK, [t for t in turned if t.life > 4], range(1, 21), SIZE, quiet)


def test_a_frame_with_too_few_features_is_named():
    tracks, _, _ = walked()
    for track in tracks[10:]:
        track.places.pop(9, None)
    with pytest.raises(LockError, match="through frame 9"):
        camera_from_tracks(LOCK, tracks, range(1, 21), SIZE, quiet)


def test_two_views_tell_turn_and_way():
    tracks, turns, places = walked(noise=0.02)
    both = [(t.places[1], t.places[20]) for t in tracks if 1 in t.places and 20 in t.places]
    a, b = ((np.array(each) - np.array(SIZE) / 2) / FOCAL for each in zip(*both))
    turn, way, _ = two_view(a, b)
    assert np.degrees(np.linalg.norm(cv2.Rodrigues(turn @ (turns[-1] @ turns[0].T).T)[0])) < 0.3
    assert abs(way @ places[-1]) / np.linalg.norm(places[-1]) > 0.99


def test_a_known_focal_length_is_kept_and_a_scale_makes_metres():
    tracks, _, places = walked()
    lens = Lens(focal_px=FOCAL, given=True)
    lock = camera_from_tracks(LOCK.but(lens=lens), tracks, range(1, 21), SIZE, quiet)
    assert lock.lens.focal_px == FOCAL
    assert not lock.in_metres
    longest = np.linalg.norm([e.position for e in lock.solved], axis=1).max()
    metres = scaled(lock, float(np.linalg.norm(places, axis=1).max() / longest))
    assert metres.in_metres
    assert np.array([e.position for e in metres.solved]) == pytest.approx(places, abs=0.02)
    assert metres.points[0].place[2] / lock.points[0].place[2] == pytest.approx(
        metres.solved[-1].position[0] / lock.solved[-1].position[0]
    )
    with pytest.raises(LockError, match="above 0"):
        scaled(lock, 0.0)


def test_features_are_followed_without_drift(demo):
    from zonal_mantle.api import open_shot
    from zonal_mantle.lock import lock_feed

    session = open_shot(demo / "SLT_0140.shot.json")
    frames = session.shot.frames
    out = np.ones((360, 640), np.float32)
    out[:, :80] = 0
    tracks = follow_features(lambda f: lock_feed(session.plate(f)), lambda f: out, frames)
    long = [track for track in tracks if track.life == len(frames)]
    assert len(long) > 30
    assert all(x >= 79 for track in tracks for x, _ in track.places.values())
    first, last = (np.array([t.places[frame] for t in long], np.float32) for frame in (frames[0], frames[-1]))
    # reference library: OpenCV; what does not move itself holds the epipolar lines of one moving camera
    _, holds = cv2.findFundamentalMat(first, last, cv2.FM_RANSAC, 1.0, 0.999, 5000)
    assert holds.mean() > 0.8
