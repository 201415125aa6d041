"""What a feature is shifted by when what is about it is stretched, against OpenCV's following of one."""

import cv2
import numpy as np
import pytest

from lock_plates import photograph
from zonal_mantle.lock.bundle import Scene, Views
from zonal_mantle.lock.features import WINDOW, Track, codes_of, noise_of, padded, pattern_at
from zonal_mantle.lock.stretch import Stretches, drawn

SIZE, FOCAL, MIDDLE = (640, 360), 560.0, np.array([320.0, 180.0])
STOP = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 50, 1e-4)
PLACE = np.array([0.2, 0.0, 0.3])  # of the second camera; what is seen lies at 1 / NEAR
NEAR = 0.1


def motion(turn_deg: float, moves: bool) -> np.ndarray:
    """What the first camera sees of a sheet that faces it, in focal lengths, as the second one sees it."""
    turn = cv2.Rodrigues(np.radians([1.0, turn_deg, 2.0]))[0]
    return turn - np.outer(turn @ PLACE, [0, 0, NEAR]) if moves else turn


def picture(sheet: np.ndarray, there: np.ndarray) -> np.ndarray:
    """What a camera sees of the sheet, four by four places a pixel."""
    u, v = np.meshgrid((np.arange(4 * SIZE[0]) + 0.5) / 4 - MIDDLE[0], (np.arange(4 * SIZE[1]) + 0.5) / 4 - MIDDLE[1])
    at = np.stack([u / FOCAL, v / FOCAL, np.ones_like(u)], axis=-1) @ np.linalg.inv(there).T
    at = (at[..., :2] / at[..., 2:] * FOCAL * 1.3 + np.array(sheet.shape[::-1]) / 2 - 0.5).astype(np.float32)
    fine = cv2.remap(sheet, at[..., 0], at[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
    return np.asarray(cv2.resize(fine, SIZE, interpolation=cv2.INTER_AREA), np.float32)


@pytest.mark.parametrize(("name", "turn_deg", "moves"), [("gravel", 12.0, False), ("grass", -9.0, False),
                                                        ("astronaut", 8.0, True)])  # fmt: skip
def test_a_stretched_pattern_is_shifted_by_what_its_slopes_tell(name, turn_deg, moves):
    """Truth by the homography of a sheet (Hartley & Zisserman 2004, equation 13.2)."""
    there = motion(turn_deg, moves)
    sheet = photograph(name, 1800)
    one, other = (codes_of(picture(sheet, each)) for each in (np.eye(3), there))
    found = cv2.goodFeaturesToTrack(one, 300, 0.02, 14, blockSize=5).reshape(-1, 2)
    rays = np.column_stack([(found + 0.5 - MIDDLE) / FOCAL, np.ones(len(found))])
    true = rays @ there.T
    true = true[:, :2] / true[:, 2:] * FOCAL + MIDDLE
    inside = ((true > 20) & (true < np.array(SIZE) - 20) & (np.abs(found - MIDDLE) < MIDDLE - 40)).all(axis=1)
    found, rays, true = found[inside], rays[inside], true[inside]
    start = found.astype(np.float32).reshape(-1, 1, 2)
    guess = (true - 0.5).astype(np.float32).reshape(-1, 1, 2)
    hit, ok, _ = cv2.calcOpticalFlowPyrLK(one, other, start, guess, winSize=WINDOW, maxLevel=0, criteria=STOP,
                                          flags=cv2.OPTFLOW_USE_INITIAL_FLOW)  # fmt: skip
    off = hit.reshape(-1, 2) + 0.5 - true
    rimmed = padded(one)
    tracks = [Track({1: tuple(at + 0.5)}, pattern_at(rimmed, at + 0.5, 1)) for at in found.astype(float)]
    turn = cv2.Rodrigues(np.radians([1.0, turn_deg, 2.0]))[0]
    points = np.column_stack([rays, np.full(len(rays), NEAR if moves else 0.0)])
    scene = Scene(FOCAL, 0.0, np.array([np.eye(3), turn]), np.array([np.zeros(3), PLACE]), points)
    views = Views(np.ones(len(found), np.intp), np.arange(len(found)), off)
    left = Stretches().taken_off(scene, tracks, views, [1, 2]).seen
    held = (ok.reshape(-1) > 0) & (np.linalg.norm(off, axis=1) < 1.5)
    before, after = (np.sqrt((each[held] ** 2).mean()) for each in (off, left))
    assert held.sum() > 60
    assert after < 0.2 * before
    assert np.abs(left[held].mean(axis=0)).max() < 0.005


def test_the_slopes_of_a_picture_by_another_are_those_of_its_homography():
    there = motion(14.0, True)
    turn = cv2.Rodrigues(np.radians([1.0, 14.0, 2.0]))[0]
    at = np.array([[0.1, -0.2], [-0.3, 0.15], [0.0, 0.0]])
    points = np.column_stack([at, np.ones(3), np.full(3, NEAR)])
    scene = Scene(FOCAL, 0.0, np.array([np.eye(3), turn]), np.array([np.zeros(3), PLACE]), points)
    slopes, bent = drawn(scene, np.ones(3, np.intp), np.zeros(3, np.intp), points)

    def place(px: np.ndarray) -> np.ndarray:
        seen = np.column_stack([at + px / FOCAL, np.ones(3)]) @ there.T
        return seen[:, :2] / seen[:, 2:] * FOCAL

    ways = np.eye(2)
    for k in range(2):
        assert slopes[:, :, k] == pytest.approx((place(ways[k]) - place(-ways[k])) / 2, abs=1e-5)
        for m in range(2):
            second = place(ways[k] + ways[m]) - place(ways[k] - ways[m]) - place(ways[m] - ways[k])
            assert bent[:, :, k, m] == pytest.approx((second + place(-ways[k] - ways[m])) / 4, abs=1e-5)


def test_what_has_no_pattern_is_not_shifted():
    scene = Scene(FOCAL, 0.0, np.tile(np.eye(3), (2, 1, 1)), np.zeros((2, 3)), np.array([[0.0, 0, 1, 0]]))
    views = Views(np.array([0, 1]), np.array([0, 0]), np.array([[1.0, 2.0], [3.0, 4.0]]))
    assert Stretches().taken_off(scene, [Track({1: (1.0, 2.0)})], views, [1, 2]) is views


def test_what_lies_behind_its_first_camera_is_not_shifted():
    rimmed = padded(np.random.default_rng(2).integers(0, 255, (90, 160), np.uint8))
    tracks = [Track({1: (60.0, 40.0)}, pattern_at(rimmed, (60.0, 40.0), 1, 3.0)) for _ in range(3)]
    points = np.array([[0.1, 0.0, 1.0, 0.1], [0.1, 0.0, -1.0, 0.1], [1.0, 0.0, 0.0, 0.0]])
    turn = cv2.Rodrigues(np.radians([0.0, 6.0, 0.0]))[0]
    scene = Scene(FOCAL, 0.0, np.array([np.eye(3), turn]), np.array([np.zeros(3), PLACE]), points)
    views = Views(np.ones(3, np.intp), np.arange(3), np.zeros((3, 2)))
    shifts = Stretches().shifts_px(scene, tracks, views, [1, 2])
    assert np.isfinite(shifts).all()
    assert shifts[0].any()


@pytest.mark.parametrize(("name", "sigma"), [("coffee", 3.0), ("camera", 6.0), ("astronaut", 2.0)])
def test_noise_is_told_from_texture(name, sigma):
    clean = codes_of(picture(photograph(name, 1800), np.eye(3)))
    noisy = clean + np.random.default_rng(5).normal(0, sigma, clean.shape)
    assert noise_of(np.clip(np.round(noisy), 0, 255).astype(np.uint8)) == pytest.approx(sigma, rel=0.2)
