"""Locks solved on a shot's plate: fields, what is left out, a guess from another lock, proposals, trouble."""

import json
from pathlib import Path

import numpy as np
import pytest

from stores import kept_pictures
from zonal_mantle.api import new, open_shot
from zonal_mantle.comp import solve_lock, suggest_lock, view
from zonal_mantle.comp.lock_work import LockWork
from zonal_mantle.comp.views import Look
from zonal_mantle.geometry import carry
from zonal_mantle.lock import LockError
from zonal_mantle.lock.runs import flat
from zonal_mantle.media import open_source
from zonal_mantle.media.still import write_still
from zonal_mantle.place import reference_to_frame
from zonal_mantle.place.ride import lock_motion
from zonal_mantle.shot import Follow, Lock, Shape, ShotError, load, rectangle_key, save
from zonal_mantle.shot.shot import FORMAT_VERSION
from zonal_mantle.shot.upgrade import upgraded

WALL = Shape(id="f1", name="Field 1", keys=(rectangle_key(1005, (205, 170), (315, 222)),))


@pytest.fixture
def session(demo: Path):
    return open_shot(demo / "SLT_0140.shot.json")


def cameras(demo: Path):
    truth = json.loads((demo / "truth" / "truth.json").read_text())
    return {each["frame"]: each for each in truth["cameras"]}


def test_a_plane_lock_on_the_demos_house_holds_its_wall(session, demo):
    """Against the demo's own true camera, on the wall's plane."""
    lock = Lock(id="p", name="House", kind="plane", reference_frame=1005, field=(WALL,), motion="affine")
    shot = solve_lock(session.shot.with_lock(lock), "p", session.store)
    solved = shot.lock("p")
    assert len(solved.solved) == len(shot.frames)
    assert not solved.lost
    works = shot.lock("works")
    points = np.array([[215, 180], [305, 180], [305, 215], [215, 215.0]])
    for frame in shot.frames:
        to_1005 = np.linalg.inv(reference_to_frame(shot, works.id, 1005))
        theirs = carry(reference_to_frame(shot, works.id, frame) @ to_1005, points)
        assert np.abs(carry(reference_to_frame(shot, "p", frame), points) - theirs).max() < 0.6


def test_a_lock_may_start_from_another_and_a_left_out_shape_may_ride(session):
    out = Shape(id="f2", mode="drop", rides="works", keys=(rectangle_key(1005, (205, 170), (240, 222)),))
    lock = Lock(id="p", name="House", kind="plane", reference_frame=1005, field=(WALL, out), rides="works")
    shot = solve_lock(session.shot.with_lock(lock), "p", session.store)
    assert len(shot.lock("p").solved) == len(shot.frames)
    gone = shot.without_lock("works")
    assert gone.lock("p").rides is None
    assert gone.lock("p").field[1].rides is None


def test_a_search_takes_only_the_chosen_parts_of_the_lock_it_starts_from(session):
    """A mark whose own reach is too short for the shot's motion is found where another lock's place leads it."""
    works = session.shot.lock("works")
    frames = session.shot.frames
    key = works.solved[0].frame
    far = flat(np.array([[1, 0, 150.0], [0, 1, 0], [0, 0, 1]]))
    wrong = works.but(id="wrong", name="Wrong", solved=tuple(e.but(homography=far) if e.frame != key else e
                                                             for e in works.solved))  # fmt: skip
    mark = works.marks[0].but(reach=(8.0, 8.0), frame=None)
    own = Lock(id="m", name="Own", reference_frame=works.reference_frame, marks=(mark,), rides="works")
    solved = solve_lock(session.shot.with_lock(own), "m", session.store).lock("m")
    assert len(solved.solved) == len(frames)
    # the place that a wrong lock leads to is not searched when its position is not taken
    led = own.but(rides="wrong", reference_frame=key, marks=(mark,))
    shot = session.shot.with_lock(wrong).with_lock(led.but(follow=Follow(position=False)))
    work = LockWork(shot, shot.lock("m"), session.store)
    assert np.hypot(*(carry(work.guess(frames[-1]), np.array([[mark.x, mark.y]]))[0] - (mark.x, mark.y))) < 1e-6
    work = LockWork(shot, led, session.store)
    assert np.hypot(*(carry(work.guess(frames[-1]), np.array([[mark.x, mark.y]]))[0] - (mark.x, mark.y))) > 100


def test_locks_cannot_ride_in_a_ring(session):
    a = Lock(id="a", name="A", kind="plane", reference_frame=1001)
    b = a.but(id="b", name="B", rides="a")
    shot = session.shot.with_lock(a).with_lock(b)
    with pytest.raises(ValueError, match="ride on itself"):
        shot.with_lock(a.but(rides="b"))


def test_a_camera_lock_on_the_demo_gives_near_and_far_their_own_parallax(session, demo):
    lock = Lock(id="c", name="Camera", kind="camera", reference_frame=1005)
    shot = solve_lock(session.shot.with_lock(lock), "c", session.store)
    solved = shot.lock("c")
    truth = {each["frame"]: each for each in json.loads((demo / "truth" / "truth.json").read_text())["cameras"]}
    here, middle = truth[1005], np.array(shot.size) / 2
    places = np.array([[x, y] for x in (0.25, 0.5, 0.75) for y in (0.3, 0.6)]) * shot.size
    rays = np.column_stack([(places - middle) / here["focal_px"], np.ones(6)]) @ np.array(here["rotation"])
    for entry in solved.solved:  # what is far and rides on it slides by no more than is said
        seen = rays @ np.array(truth[entry.frame]["rotation"]).T
        there = seen[:, :2] / seen[:, 2:] * truth[entry.frame]["focal_px"] + middle
        ours = carry(lock_motion(solved, entry.frame, shot.size, None), places)
        slides = np.sqrt(((ours - there) ** 2).sum(axis=1).mean())
        assert slides < 2 * entry.residual_px
    assert ("does not tell the focal length" in " ".join(solved.lost)) == (not solved.lens.focal_told)
    near, far = (
        carry(lock_motion(solved, 1001, shot.size, d), np.array([[320.0, 180]]))
        for d in (solved.points[0].place[2], None)
    )
    assert np.abs(near - far).max() > 0.5


def test_the_difference_is_grey_where_the_lock_holds(session):
    lock = Lock(id="p", name="House", kind="plane", reference_frame=1005, field=(WALL,))
    shot = solve_lock(session.shot.with_lock(lock), "p", session.store)
    seen = view(shot, 1008, "Difference", None, session.store, 1.0, Look(lock="p"))[..., 1].astype(float)
    loose = view(shot.with_lock(shot.lock("p").but(solved=tuple(
        e.but(homography=shot.lock("p").at(1005).homography) for e in shot.lock("p").solved))),
        1008, "Difference", None, session.store, 1.0, Look(lock="p"))[..., 1].astype(float)  # fmt: skip
    inside = np.s_[180:212, 225:295]
    assert np.abs(seen[inside] - 118).mean() < 0.75 * np.abs(loose[inside] - 118).mean()


def test_what_a_zone_does_not_follow_does_not_move_it(session):
    from zonal_mantle.place import painting_to_frame

    zone = next(zone for zone in session.shot.zones if zone.placement.rides)
    stiff = zone.but(placement=zone.placement.but(follow=Follow(position=False, turn=False, size=False, shear=False,
                                                                perspective=False)))  # fmt: skip
    frames = session.shot.frames
    assert painting_to_frame(session.shot, stiff, frames[0]) == pytest.approx(
        painting_to_frame(session.shot, stiff, frames[-1])
    )
    assert not np.allclose(
        painting_to_frame(session.shot, zone, frames[0]), painting_to_frame(session.shot, zone, frames[-1])
    )


def test_a_lock_is_suggested_with_reasons_and_what_it_can_promise(session):
    """It was tried on some frames: solved over the shot, it is as good as was promised, and says so frame by frame."""
    suggested = session.suggest_lock()
    lock = suggested.lock
    assert lock.kind in ("plane", "pan", "camera")
    assert len(suggested.reasons[0]) > 40
    assert any(words.startswith("Tried on frames") or "Tried:" in words for words in suggested.reasons)
    if lock.kind == "plane":
        assert lock.field or lock.field_stays
    assert suggested.expected_px > 0
    untold = "does not tell the focal length" in " ".join(suggested.reasons)
    assert (suggested.expected_px > 0.5) == untold  # eight frames of the demo: what is far slides by some px
    solved = solve_lock(session.shot.with_lock(lock), lock.id, session.store).lock(lock.id)
    assert lock.kind == "camera"
    assert suggested.solved == solved  # nothing has to be solved twice
    told = [solved.error_px(frame) for frame in session.shot.frames]
    assert sum(each is not None for each in told) >= 0.9 * len(told)
    assert np.median([each for each in told if each is not None]) < 4 * suggested.expected_px
    assert solved.error_px(session.shot.frames[-1] + 1) is None


def test_a_suggestion_that_cannot_hold_says_so(session, tmp_path):
    """Noise, another on each frame: nothing is promised, and what would help is said."""
    rng = np.random.default_rng(3)
    for k in range(6):
        write_still(tmp_path / f"n.{k + 1:04d}.png", rng.random((120, 200, 3)).astype(np.float32), "uint8")
    suggested = new(tmp_path / "n.%04d.png").suggest_lock()
    assert suggested.expected_px is None
    assert "Draw a region" in " ".join(suggested.reasons)


def test_doubled_frames_of_a_plate_are_remarked(session, tmp_path):
    for k in range(4):
        pixels = session.plate(1001 + min(k, 2))
        write_still(tmp_path / f"p.{k + 1:04d}.exr", pixels, "half", "zip")
    source = open_source(tmp_path / "p.0001.exr", "plate")
    lock = Lock(id="p", name="House", kind="plane", reference_frame=2,
                field=(WALL.but(keys=(rectangle_key(2, (205, 170), (315, 222)),)),))  # fmt: skip
    shot = session.shot.but(zones=(), mattes=(), locks=(lock,), sources=(source,), plate="plate")
    solved = solve_lock(shot, "p", kept_pictures()).lock("p")
    assert "same picture as the frame before: 4" in solved.remarks[0]


def test_a_shot_without_a_plate_or_with_one_frame_is_refused(session):
    from zonal_mantle.shot import Shot

    lock = Lock(id="p", name="House", kind="plane", reference_frame=1)
    with pytest.raises(LockError, match="no plate"):
        solve_lock(Shot(locks=(lock,)), "p", kept_pictures())
    with pytest.raises(LockError, match="no moving plate"):
        suggest_lock(Shot(), kept_pictures())


def test_a_shot_of_format_2_opens_with_its_locks(session, tmp_path):
    save(session.shot, tmp_path / "new.shot.json")
    data = json.loads((tmp_path / "new.shot.json").read_text())
    old = {**data, "version": 2}
    for lock in old["locks"]:
        for name in ("rides", "renewal", "motion", "field", "field_stays", "lens", "points", "correction", "remarks"):
            lock.pop(name, None)
    assert upgraded(old)["version"] == FORMAT_VERSION
    (tmp_path / "old.shot.json").write_text(json.dumps(old))
    opened = load(tmp_path / "old.shot.json")
    assert [lock.solved for lock in opened.locks] == [lock.solved for lock in session.shot.locks]
    assert opened.locks[0].moves == "similarity"
    (tmp_path / "later.shot.json").write_text(json.dumps({**data, "version": FORMAT_VERSION + 1}))
    with pytest.raises(ShotError, match="newer"):
        load(tmp_path / "later.shot.json")
