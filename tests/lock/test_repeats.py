"""Textures that repeat: seen as such, and never followed by a period too many without a word."""

import cv2
import numpy as np
import pytest
from skimage import data

from zonal_mantle.lock import LockError, pyramid, solve_pan, solve_staying
from zonal_mantle.lock.align import Area
from zonal_mantle.lock.repeats import first_untold, periods
from zonal_mantle.shot import Lock

WIDTH, HEIGHT, FOCAL, COUNT = 480, 270, 700.0, 16
K = np.array([[FOCAL, 0, WIDTH / 2], [0, FOCAL, HEIGHT / 2], [0, 0, 1]])
PERIOD = 16


def fence(seed: int) -> np.ndarray:
    """Thin posts every 16 px before faint clouds."""
    rng = np.random.default_rng(seed)
    out = np.full((512, 2048), 0.75, np.float32)
    for x in range(0, out.shape[1], PERIOD):
        out[:, x : x + 3] = 0.25
    out[200:206] = 0.3
    return out + 0.3 * cv2.GaussianBlur(rng.standard_normal(out.shape).astype(np.float32), (0, 0), 20)


def wall() -> np.ndarray:
    """The photograph *brick* (scikit-image)."""
    brick = data.brick().astype(np.float32) / 255
    return np.tile(np.hstack([brick, brick[:, ::-1]]), (1, 2))


def panned(panorama: np.ndarray, degrees: float, seed: int) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """Frames of a camera that turns over a panorama and sways, with grain; and the ways from the panorama."""
    rng = np.random.default_rng(seed)
    cx, cy = panorama.shape[1] / 2, panorama.shape[0] / 2
    rays = np.array([[1 / FOCAL, 0, -cx / FOCAL], [0, 1 / FOCAL, -cy / FOCAL], [0, 0, 1]])
    frames, ways = [], []
    for k in range(COUNT):
        yaw = np.radians(degrees * (k / (COUNT - 1) - 0.5)) + 0.004 * np.sin(2.3 * k)
        turn = cv2.Rodrigues(np.array([0.004 * np.sin(1.7 * k + 1), yaw, 0.004 * np.sin(1.1 * k)]))[0]
        way = K @ turn.T @ rays
        frame = cv2.warpPerspective(panorama, way, (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC)
        frames.append((frame + rng.normal(0, 0.02, frame.shape)).astype(np.float32))
        ways.append(way)
    return frames, ways


def errors(lock: Lock, ways: list[np.ndarray], start: int) -> list[float]:
    """How far each solved frame is off, px over nine places."""
    grid = np.array([[[WIDTH * x, HEIGHT * y] for x in (0.25, 0.5, 0.75) for y in (0.25, 0.5, 0.75)]])
    out = []
    for entry in lock.solved:
        truth = ways[entry.frame] @ np.linalg.inv(ways[start])
        back = cv2.perspectiveTransform(grid, np.linalg.inv(truth))
        found = cv2.perspectiveTransform(back, np.reshape(entry.homography, (3, 3)))
        out.append(float(np.sqrt(((found - grid) ** 2).sum(axis=2).mean())))
    return out


def solve(solver, frames, kind):
    start = COUNT // 2
    mask = np.zeros((HEIGHT, WIDTH), np.float32)
    mask[10:-10, 10:-10] = 1
    lock = Lock(id="l", name="L", kind=kind, field_stays=True, reference_frame=start)
    return solver(lock, lambda frame: frames[frame], mask, lambda frame: None, range(COUNT)), start


def area_of(picture: np.ndarray) -> Area:
    return Area(pyramid(np.ascontiguousarray(picture, np.float32), 4), np.ones(picture.shape, np.float32))


def test_a_fence_repeats_by_its_posts_and_photographs_do_not():
    shifts = periods(area_of(fence(1)[:270, :480]))
    assert (PERIOD, 0) in shifts
    assert all(x % PERIOD == 0 and abs(y) <= 1 for x, y in shifts)
    for name in ("coffee", "astronaut", "gravel", "grass", "chelsea"):
        picture = getattr(data, name)()
        grey = (picture if picture.ndim == 2 else picture[..., 1])[:300, :450] / 255
        assert periods(area_of(grey)) == [], name


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize(("solver", "kind"), [(solve_staying, "plane"), (solve_pan, "pan")])
def test_a_fast_pan_over_a_fence_is_right_or_says_why_it_is_not(solver, kind, seed):
    frames, ways = panned(fence(seed), 20, seed)
    words = ""
    try:
        lock, start = solve(solver, frames, kind)
    except LockError as problem:
        words = str(problem)
    if words:
        assert "repeats every" in words
        return
    assert max(errors(lock, ways, start)) < 1.0
    assert len(lock.solved) == COUNT or any("repeats every" in words for words in lock.lost)


def test_a_fast_pan_over_bricks_is_solved_as_before():
    frames, ways = panned(wall(), 20, 1)
    lock, start = solve(solve_staying, frames, "plane")
    assert len(lock.solved) == COUNT
    assert max(errors(lock, ways, start)) < 0.5


def test_frames_are_told_together_by_rivals_that_are_less_alike_on_the_whole():
    assert first_untold([0.3, 0.28, 0.35, 0.31, 0.29]) is None
    assert first_untold([0.3, 0.28]) == 0  # too few to tell
    assert first_untold([0.02, -0.05, 0.04, 0.01, -0.02, 0.03]) == 0
    assert first_untold([0.3, 0.32, 0.28, 0.31, -0.3, 0.3]) == 4  # a rival is more alike
    assert first_untold([0.3, 0.32, 0.28, 0.31, 0.3, 0.01, 0.0, 0.02, -0.01]) in (4, 5)  # they become as alike
    assert first_untold([0.9, 1.2]) is None  # each by itself
