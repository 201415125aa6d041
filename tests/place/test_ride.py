"""What a rider gets from a lock: parts of the motion, corrections, smoothing, the right parallax."""

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from zonal_mantle.geometry import camera_matrix, carry
from zonal_mantle.place import card_motion, removed_px, warp
from zonal_mantle.place.ride import correction_matrix, followed, lock_motion
from zonal_mantle.shot import Correction, Follow, Key, Keyed, Lens, Lock, LockFrame

SIZE, ANCHOR = (1280, 720), (500.0, 300.0)
MOTION = np.array([[1.08, -0.12, 30.0], [0.09, 1.02, -14.0], [3e-5, -2e-5, 1.0]])
NOTHING = Follow(position=False, turn=False, size=False, shear=False, perspective=False)


def near(matrix, at=ANCHOR):
    """Place and Jacobian of a homography at a point, by differences."""
    h = 1e-4
    p, px, py = carry(matrix, np.array([at, (at[0] + h, at[1]), (at[0], at[1] + h)]))
    return p, np.stack([(px - p) / h, (py - p) / h], axis=1)


def test_all_parts_are_the_motion_and_none_are_nothing():
    whole = followed(MOTION, Follow(), ANCHOR)
    assert whole / whole[2, 2] == pytest.approx(MOTION, abs=1e-9)
    assert followed(MOTION, NOTHING, ANCHOR) == pytest.approx(np.eye(3))


def test_each_part_by_itself():
    place, jacobian = near(MOTION)
    got, own = near(followed(MOTION, NOTHING.but(position=True), ANCHOR))
    assert got == pytest.approx(place)
    assert own == pytest.approx(np.eye(2), abs=1e-6)
    _, size = near(followed(MOTION, NOTHING.but(size=True), ANCHOR))
    assert size == pytest.approx(np.eye(2) * np.sqrt(np.linalg.det(jacobian)), abs=1e-6)
    _, turn = near(followed(MOTION, NOTHING.but(turn=True), ANCHOR))
    assert turn @ turn.T == pytest.approx(np.eye(2), abs=1e-6)
    _, shear = near(followed(MOTION, NOTHING.but(shear=True), ANCHOR))
    assert shear == pytest.approx(shear.T, abs=1e-6)
    assert np.linalg.det(shear) == pytest.approx(1, abs=1e-5)
    assert turn @ shear @ size == pytest.approx(jacobian, abs=1e-4)
    flat = followed(MOTION, Follow(perspective=False), ANCHOR)
    assert flat[2] == pytest.approx([0, 0, 1])
    assert near(flat)[1] == pytest.approx(jacobian, abs=1e-4)


def test_perspective_alone_leaves_the_anchor_and_its_surroundings():
    only = followed(MOTION, NOTHING.but(perspective=True), ANCHOR)
    place, jacobian = near(only)
    assert place == pytest.approx(ANCHOR)
    assert jacobian == pytest.approx(np.eye(2), abs=1e-5)
    assert np.abs(carry(only, np.array([[1200.0, 700.0]])) - (1200, 700)).max() > 1


def lock_of(motions, **more):
    entries = tuple(
        LockFrame(frame=k, homography=tuple(float(v) for v in m.reshape(-1))) for k, m in enumerate(motions, 1)
    )
    return Lock(id="a", name="A", reference_frame=1, solved=entries, **more)


@settings(max_examples=30, deadline=None)
@given(some.floats(-40, 40), some.floats(-30, 30), some.floats(-8, 8), some.floats(0.8, 1.25))
def test_stabilised_and_applied_again_a_place_comes_back(x, y, turn, size):
    correction = Correction(
        x=Keyed(constant=x), y=Keyed(constant=y), turn_deg=Keyed(constant=turn), size=Keyed(constant=size)
    )
    lock = lock_of([np.eye(3), MOTION], kind="plane", correction=correction)
    there = lock_motion(lock, 2, SIZE)
    points = np.array([[10.0, 20], [1270, 15], [640, 700]])
    assert np.abs(carry(there, carry(np.linalg.inv(there), points)) - points).max() < 0.01


def test_a_picture_stabilised_and_put_back_is_the_picture():
    rng = np.random.default_rng(1)
    picture = cv2.GaussianBlur(rng.random((180, 320, 3)).astype(np.float32), (0, 0), 3)
    motion = np.array([[1.01, -0.02, 4.3], [0.02, 0.99, -2.6], [1e-5, 0, 1.0]])
    still = warp(picture, np.linalg.inv(motion), (320, 180))
    back = warp(still, motion, (320, 180))[..., :3]
    inside = np.s_[30:-30, 30:-30]
    assert np.abs(back - picture)[inside].max() < 0.004


def test_a_correction_is_keyed_smoothly_in_the_locks_own_space():
    keys = Keyed(keys=(Key(frame=1, value=0.0), Key(frame=3, value=10.0)))
    lock = lock_of([np.eye(3), MOTION, MOTION], kind="plane", correction=Correction(x=keys, centre=ANCHOR))
    assert correction_matrix(lock.correction, 2, SIZE)[:2, 2] == pytest.approx([5, 0])
    corrected = carry(lock_motion(lock, 3, SIZE), np.array([ANCHOR]))
    assert corrected == pytest.approx(carry(MOTION, np.array([(ANCHOR[0] + 10, ANCHOR[1])])))


def test_smoothing_takes_jitter_out_and_says_how_much():
    rng = np.random.default_rng(2)
    jitter = rng.normal(0, 0.5, (60, 2))
    motions = []
    for k in range(60):
        m = np.eye(3)
        m[:2, 2] = (2.0 * k, 0.01 * k * k) + jitter[k]
        motions.append(m)
    rough = lock_of(motions, kind="plane")
    calm = rough.but(smooth_frames=3.0)
    middle = np.array([[640.0, 360.0]])
    track = np.array([carry(lock_motion(calm, k, SIZE), middle)[0] for k in range(10, 50)]) - middle
    path = np.array([(2.0 * (k - 1), 0.01 * (k - 1) ** 2) for k in range(10, 50)])
    assert (track - path).std() < 0.25
    assert removed_px(calm, SIZE) == pytest.approx(np.sqrt((jitter**2).sum(axis=1).mean()), rel=0.2)
    assert removed_px(rough, SIZE) == 0


@pytest.mark.parametrize("metres", [6.0, 40.0, 900.0])
def test_a_card_moves_as_its_corners_do_in_space(metres):
    """Against plain projection of the card's corners."""
    lens, rotation, position = Lens(focal_px=1200.0), np.array([0.02, -0.05, 0.01]), np.array([0.4, -0.05, 0.3])
    entry = LockFrame(
        frame=2, homography=(1, 0, 0, 0, 1, 0, 0, 0, 1), rotation=tuple(rotation), position=tuple(position)
    )
    k = camera_matrix(lens.focal_px, SIZE)
    corners = np.array([[300, 200], [900, 180], [880, 600], [310, 560.0]])
    world = np.concatenate([corners, np.ones((4, 1))], axis=1) @ np.linalg.inv(k).T * metres
    local = (world - position) @ cv2.Rodrigues(rotation)[0].T @ k.T
    assert carry(card_motion(lens, SIZE, entry, metres), corners) == pytest.approx(local[:, :2] / local[:, 2:])
    lock = Lock(id="c", name="C", kind="camera", reference_frame=1, lens=lens, solved=(entry,))
    assert lock_motion(lock, 2, SIZE, metres) == pytest.approx(card_motion(lens, SIZE, entry, metres))
    assert lock_motion(lock, 2, SIZE) == pytest.approx(np.eye(3))  # at infinity
