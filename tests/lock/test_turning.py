"""A field that stays in the frame, and the turning camera behind it."""

import cv2
import numpy as np
import pytest

from lock_plates import box_mask, flat_plates, turning_plates
from zonal_mantle.geometry import camera_matrix, carry
from zonal_mantle.lock import LockError, solve_pan, solve_staying
from zonal_mantle.lock.align import Fit
from zonal_mantle.lock.chain import Chain, Link
from zonal_mantle.lock.pan import solve_turn
from zonal_mantle.shot import Lens, Lock

SIZE = (480, 270)
LOCK = Lock(id="sky", name="Sky", kind="plane", field_stays=True, reference_frame=0)


@pytest.fixture(scope="module")
def pan():
    return turning_plates(seed=4, size=SIZE, count=18, pan_deg=24.0)


def solve(plates, solver=solve_staying, lock=LOCK, **how):
    mask = box_mask(plates.size, (10, 10, SIZE[0] - 10, SIZE[1] - 10))
    return solver(lock, lambda f: plates.frames[f], mask, lambda f: None, range(len(plates.frames)), **how)


def at_infinity(lock, plates, frame):
    """How far directions seen on a frame lie from where they belong, px."""
    w, h = SIZE
    points = np.array([[x, y] for x in np.linspace(0, w, 4) for y in np.linspace(0, h, 3)])
    back = carry(np.linalg.inv(plates.truth[frame]), points)
    found = np.array(lock.at(frame).homography).reshape(3, 3)
    return float(np.linalg.norm(carry(found, back) - points, axis=1).mean())


def test_a_field_that_stays_adds_up_a_pan_on_which_the_first_frame_leaves(pan):
    w, _ = SIZE
    left, right = carry(pan.truth[-1], np.array([[0, 135.0], [w, 135.0]]))[:, 0]
    assert min(w - left, right) < 0.4 * w  # little of frame one is left
    lock = solve(pan)
    assert len(lock.solved) == 18
    assert at_infinity(lock, pan, 17) < 1.0


def test_a_pan_lock_finds_the_focal_length_and_the_turns(pan):
    lock = solve(pan, solve_pan, LOCK.but(kind="pan"))
    assert lock.lens.focal_px == pytest.approx(pan.focal_px, rel=0.01)
    assert at_infinity(lock, pan, 17) < 0.5
    turn = cv2.Rodrigues(np.array(lock.solved[-1].rotation))[0]
    apart = cv2.Rodrigues(turn @ pan.rotations[-1].T)[0]
    assert np.degrees(np.linalg.norm(apart)) < 0.1


def test_a_given_focal_length_is_kept(pan):
    lens = Lens(focal_px=pan.focal_px * 1.1, given=True)
    lock = solve(pan, solve_pan, LOCK.but(kind="pan", lens=lens))
    assert lock.lens.focal_px == lens.focal_px


def test_a_camera_that_stood_tells_no_focal_length():
    still = flat_plates("gravel", 3, SIZE, count=4, speed=0.02)
    with pytest.raises(LockError, match="Give the focal length"):
        solve(still, solve_pan, LOCK.but(kind="pan"))


def test_a_sky_without_anything_is_refused(pan):
    rng = np.random.default_rng(2)
    pan = type(pan)([np.full((270, 480), 0.8, np.float32) + rng.normal(0, 0.01, (270, 480)).astype(np.float32)] * 3, [])
    with pytest.raises(LockError, match="nothing to hold"):
        solve(pan)


def test_progress_may_cancel_it(pan):
    class Stop(Exception):
        pass

    def progress(share, words):
        if share > 0.3:
            raise Stop

    with pytest.raises(Stop):
        solve(pan, progress=progress)


@pytest.mark.parametrize(("focal", "bend"), [(900.0, 0.0), (1500.0, -0.08)])
def test_focal_length_and_distortion_come_from_the_formula_of_a_turning_camera(focal, bend):
    """Links made by K R K⁻¹ (Hartley & Zisserman 2004, section 8.4.2) and one term of radial distortion."""
    size, rng = (1280, 720), np.random.default_rng(5)
    middle = np.array(size) / 2

    def seen(rays):
        flat = rays[:, :2] / rays[:, 2:]
        return flat * (1 + bend * (flat**2).sum(axis=1, keepdims=True)) * focal + middle

    turns = [cv2.Rodrigues(np.radians([0.3 * k, 2.0 * k, 0.1 * k]))[0] for k in range(8)]
    chain = Chain()
    grid = np.array([[x, y] for x in np.linspace(-0.25, 0.4, 6) for y in np.linspace(-0.2, 0.2, 4)])
    rays = np.concatenate([grid, np.ones((len(grid), 1))], axis=1)
    for k in range(8):
        for back in (1, 3):
            if k - back >= 0:
                a, b = seen(rays), seen(rays @ (turns[k] @ turns[k - back].T).T)
                # a link knows a homography; with distortion it is the nearest one in small patches, so take four points
                for part in np.split(rng.permutation(len(grid)), 6):
                    m, _ = cv2.findHomography(a[part], b[part], 0)
                    chain.links.append(Link.evenly(k - back, k, Fit(m, 1, 1, 0.01, 0, 1), a[part]))
    turned = solve_turn(chain, 0, size, Lens(solve_distortion=bend != 0))
    lens, found = turned.lens, turned.turns
    assert lens.focal_px == pytest.approx(focal, rel=2e-3)
    assert lens.distortion == pytest.approx(bend, abs=0.01)
    k = camera_matrix(lens.focal_px, size)
    if not bend:
        assert carry(k @ found[7] @ np.linalg.inv(k), seen(rays)) == pytest.approx(seen(rays @ turns[7].T), abs=0.05)
