"""Locks to JSON, CSV and USD and back."""

import json

import cv2
import numpy as np
import pytest

import hung
from hung import marked
from zonal_mantle.geometry import carry
from zonal_mantle.lock import LockError, turning_marks
from zonal_mantle.lock.files import (
    camera_from_usd,
    camera_to_usd,
    lock_from_csv,
    lock_from_json,
    lock_to_csv,
    lock_to_json,
    resized,
)
from zonal_mantle.place import card_motion
from zonal_mantle.shot import Keyed, Lens, Lock, LockFrame, Mark, ScenePoint, Shape, rectangle_key
from zonal_mantle.shot.lock import Correction

SIZE = (1280, 720)


def camera():
    entries, k = [], np.array([[1500.0, 0, 640], [0, 1500, 360], [0, 0, 1]])
    for n in range(4):
        rotation = np.array([0.01, 0.03, -0.02]) * n
        motion = k @ cv2.Rodrigues(rotation)[0] @ np.linalg.inv(k)
        entries.append(
            LockFrame(
                frame=1001 + n, homography=tuple((motion / motion[2, 2]).reshape(-1)), residual_px=0.1 * n,
                rotation=tuple(rotation), position=(0.2 * n, -0.01 * n, 0.05 * n), marks=((1.0, 2.0), None),
            )
        )  # fmt: skip
    field = Shape(id="f", name="Field 1", keys=(rectangle_key(1001, (100, 100), (300, 200)),))
    return Lock(
        id="cam", name="Walk", kind="camera", reference_frame=1001, solved=tuple(entries), field=(field,),
        lens=Lens(focal_px=1500.0), marks=(Mark(x=10, y=20),), quad=((0, 0), (9, 0), (9, 9), (0, 9)),
        points=(ScenePoint(place=(1.0, 2.0, 30.0), error_px=0.1, seen=4),),
    )  # fmt: skip


def test_json_gives_the_lock_back():
    lock = camera()
    assert lock_from_json(lock_to_json(lock, SIZE), SIZE) == lock


def test_json_of_a_plate_twice_as_large_is_scaled():
    lock = camera()
    small = lock_from_json(lock_to_json(lock, SIZE), (640, 360))
    corner = np.array([[100.0, 50.0]])
    for a, b in zip(small.solved, lock.solved):
        large = carry(np.array(b.homography).reshape(3, 3), corner * 2)
        assert carry(np.array(a.homography).reshape(3, 3), corner) == pytest.approx(large / 2)
    assert small.lens.focal_px == 750
    assert small.marks[0].x == 5
    assert small.field[0].keys[0].points[2] == (150, 100)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{}", "not a lock's file"),
        ("nonsense", "not readable as JSON"),
        ('{"format": "zonal-mantle-lock", "version": 9}', "newer version"),
        ('{"format": "zonal-mantle-lock", "version": 1, "plate_size": [1, 2]}', "cannot be read as a lock"),
    ],
)
def test_a_bad_json_is_refused_in_words(text, words):
    with pytest.raises(LockError, match=words):
        lock_from_json(text, SIZE, "a.json")


def test_a_motion_that_is_not_a_number_is_refused():
    data = json.loads(lock_to_json(camera(), SIZE))
    data["lock"]["solved"][1]["homography"][2] = float("nan")
    with pytest.raises(LockError, match="NaN, which is no number"):
        lock_from_json(json.dumps(data), SIZE)


def test_another_shape_of_plate_is_refused():
    with pytest.raises(LockError, match="another shape"):
        lock_from_json(lock_to_json(camera(), SIZE), (1000, 1000))


def test_csv_gives_the_solve_back_to_the_last_digit():
    lock = camera()
    text = lock_to_csv(lock)
    assert text.splitlines()[0].startswith("frame,h00,h01,h02,h10")
    back = lock_from_csv(lock.but(solved=()), text)
    assert [e.but(marks=()) for e in lock.solved] == list(back.solved)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda t: t.replace("h12", "hx"), "no column h12"),
        (lambda t: t.replace("1002", "soon"), "line 3"),
        (lambda t: t.replace("1003,", "1002,"), "frame 1002 twice"),
        (lambda t: "", "no column frame"),
    ],
)
def test_a_bad_table_is_refused_and_changes_nothing(change, words):
    with pytest.raises(LockError, match=words):
        lock_from_csv(camera(), change(lock_to_csv(camera())), "a.csv")


def test_a_camera_goes_through_usd(tmp_path):
    lock = camera()
    camera_to_usd(lock, SIZE, 24.0, tmp_path / "walk.usda")
    back = camera_from_usd(lock.but(solved=(), kind="plane"), SIZE, tmp_path / "walk.usda")
    assert back.kind == "camera"
    assert back.lens.focal_px == pytest.approx(1500, rel=1e-6)
    corners = np.array([[0, 0], [1280, 0], [1280, 720], [0, 720.0]])
    for a, b in zip(back.solved, lock.solved):
        assert a.frame == b.frame
        assert a.position == pytest.approx(b.position, abs=1e-6)
        for metres in (5.0, 200.0):
            ours, theirs = (carry(card_motion(back.lens, SIZE, e, metres), corners) for e in (a, b))
            assert ours == pytest.approx(theirs, abs=0.01)


def test_a_camera_cut_short_on_its_way_is_refused(tmp_path):
    whole = tmp_path / "walk.usda"
    camera_to_usd(camera(), SIZE, 24.0, whole)
    short = tmp_path / "short.usda"
    short.write_text(whole.read_text()[:-120])
    with pytest.raises(LockError, match=r"short\.usda cannot be read as USD"):
        camera_from_usd(camera(), SIZE, short)
    empty = tmp_path / "empty.usda"
    empty.write_text("#usda 1.0\n")
    with pytest.raises(LockError, match="holds no camera"):
        camera_from_usd(camera(), SIZE, empty)


def test_the_camera_in_usd_looks_where_ours_does(tmp_path):
    """Seen with USD's own frustum, which knows nothing of our axes."""
    from pxr import Gf, Usd, UsdGeom

    lock = camera()
    camera_to_usd(lock, SIZE, 24.0, tmp_path / "walk.usda")
    stage = Usd.Stage.Open(str(tmp_path / "walk.usda"))
    found = UsdGeom.Camera(stage.GetPrimAtPath("/Camera")).GetCamera(1004).frustum
    entry = lock.at(1004)
    place = np.array([1.0, 2.0, 30.0])
    local = cv2.Rodrigues(np.array(entry.rotation))[0] @ (place - np.array(entry.position))
    seen = local[:2] / local[2] * 1500 + (640, 360)
    matrix = np.array(found.ComputeViewMatrix() * found.ComputeProjectionMatrix())
    clip = np.array([*(place * (1, -1, -1)), 1.0]) @ matrix
    screen = (clip[:2] / clip[3] * (1, -1) + 1) / 2 * SIZE
    assert screen == pytest.approx(seen, abs=0.01)
    assert Gf is not None


def test_a_plane_holds_no_camera(tmp_path):
    with pytest.raises(LockError, match="holds no camera"):
        camera_to_usd(Lock(id="a", name="Wall", kind="plane", reference_frame=1), SIZE, 24, tmp_path / "x.usda")


def test_a_lock_for_a_plate_of_twice_the_size_has_all_of_it_doubled():
    key = rectangle_key(1, (10, 10), (50, 40))
    shape = Shape(id="f", keys=(key,), feather_in_px=3, feather_out_px=4, grow_px=-2, about=(5, 6))
    hand = Correction(x=Keyed(constant=3.0), y=Keyed(constant=-2.0), centre=(100.0, 50.0), size=Keyed(constant=1.1))
    lock = Lock(id="l", name="L", kind="plane", reference_frame=1, field=(shape,), correction=hand)
    twice = resized(lock, 2.0, 2.0)
    own = twice.field[0]
    assert (own.feather_in_px, own.feather_out_px, own.grow_px, own.about) == (6, 8, -4, (10, 12))
    assert (twice.correction.x.constant, twice.correction.y.constant) == (6, -4)
    assert twice.correction.centre == (200, 100)
    assert twice.correction.size.constant == 1.1


def test_marks_that_turn_like_a_camera_leave_as_one_and_come_back_whole(tmp_path):
    lock = turning_marks(marked(), hung.SIZE)
    assert lock_from_json(lock_to_json(lock, hung.SIZE), hung.SIZE) == lock
    half = lock_from_json(lock_to_json(lock, hung.SIZE), (320, 180)).lens
    assert np.array([half.focal_px, *half.bounds_px]) * 2 == pytest.approx([lock.lens.focal_px, *lock.lens.bounds_px])
    camera_to_usd(lock, hung.SIZE, 24.0, tmp_path / "marks.usda")
    back = camera_from_usd(lock.but(solved=(), kind="plane"), hung.SIZE, tmp_path / "marks.usda")
    assert back.lens.focal_px == pytest.approx(hung.FOCAL, rel=0.02)
    assert back.lens.bounds_px is None  # what a file gives is not measured
    corners = np.array([[0, 0], [640, 0], [640, 360], [0, 360.0]])
    for ours, theirs in zip(back.solved, lock.solved):
        a, b = (carry(np.reshape(each.homography, (3, 3)), corners) for each in (ours, theirs))
        assert a == pytest.approx(b, abs=0.01)
