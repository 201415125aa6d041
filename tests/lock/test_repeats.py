"""Textures that repeat: seen as such, and never followed by a period too many without a word."""

import cv2
import numpy as np
import pytest
from skimage import data

from zonal_mantle.lock import LockError, pyramid, solve_pan, solve_plane, solve_staying
from zonal_mantle.lock.align import Area, Fit
from zonal_mantle.lock.repeats import left_in_parts, more_alike, repeats_of, shifted
from zonal_mantle.lock.rivalry import Decision, Doubts, first_untold
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


def posts_before(name: str) -> np.ndarray:
    """The same posts before a photograph that ships with scikit-image."""
    picture = getattr(data, name)()
    grey = (picture if picture.ndim == 2 else picture[..., 1]).astype(np.float32) / 255
    grey = cv2.resize(grey, (1024, 512), interpolation=cv2.INTER_AREA)
    out = np.hstack([grey, grey[:, ::-1]])
    for x in range(0, out.shape[1], PERIOD):
        out[:, x : x + 3] = 0.15
    return np.ascontiguousarray(out)


def bare_posts() -> np.ndarray:
    """Posts and a rail before nothing at all: no one could tell by how many of them it moved."""
    out = np.full((512, 2048), 0.75, np.float32)
    for x in range(0, out.shape[1], PERIOD):
        out[:, x : x + 3] = 0.25
    out[200:206] = 0.3
    return out


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
    start = len(frames) // 2
    mask = np.zeros((HEIGHT, WIDTH), np.float32)
    mask[10:-10, 10:-10] = 1
    lock = Lock(id="l", name="L", kind=kind, field_stays=True, reference_frame=start)
    return solver(lock, lambda frame: frames[frame], mask, lambda frame: None, range(len(frames))), start


def area_of(picture: np.ndarray) -> Area:
    return Area(pyramid(np.ascontiguousarray(picture, np.float32), 4), np.ones(picture.shape, np.float32))


def test_a_fence_repeats_by_its_posts_and_photographs_do_not():
    repeats = repeats_of(area_of(fence(1)[:270, :480]))
    assert {(PERIOD, 0), (-PERIOD, 0)} == set(repeats.shifts)
    assert abs(repeats.along[1]) > 0.99  # upward nothing changes
    for name in ("coffee", "astronaut", "gravel", "grass", "chelsea"):
        picture = getattr(data, name)()
        grey = (picture if picture.ndim == 2 else picture[..., 1])[:300, :450] / 255
        assert repeats_of(area_of(grey)).shifts == [], name


def test_a_fast_pan_over_a_fence_is_told_by_the_faint_clouds_behind_it():
    frames, ways = panned(fence(1), 20, 1)
    lock, start = solve(solve_pan, frames, "pan")
    off = errors(lock, ways, start)
    assert len(off) >= 12
    assert max(off) < 0.5
    assert len(off) == COUNT or any("repeats every" in words for words in lock.lost)


def test_as_a_plane_a_fence_does_not_tell_how_tall_it_grows():
    """One rail across posts: by how much the picture grows in height about the rail moves nothing in it."""
    frames, ways = panned(fence(1), 20, 1)
    lock, start = solve(solve_staying, frames[4:13], "plane")
    assert max(errors(lock, ways[4:13], start)) < 1.0
    assert len(lock.solved) < 3
    assert any("too little texture for perspective" in words for words in lock.lost)


@pytest.mark.parametrize(("solver", "kind", "name"), [(solve_staying, "plane", "camera"), (solve_pan, "pan", "coffee")])
def test_posts_before_a_photograph_are_passed_as_if_they_were_not_there(solver, kind, name):
    frames, ways = panned(posts_before(name), 20, 3)
    lock, start = solve(solver, frames, kind)
    assert len(lock.solved) == COUNT
    off = errors(lock, ways, start)
    assert max(off) < 0.15
    assert np.median(off) < 2 * np.median([entry.residual_px for entry in lock.solved])


def test_posts_before_nothing_are_refused():
    frames, _ = panned(bare_posts(), 20, 4)
    with pytest.raises(LockError, match=r"repeats every|tells its focal length"):
        solve(solve_pan, frames, "pan")


def test_what_stays_with_the_frame_does_not_speak_for_standing_still():
    """The light of a lens falls off to the corners and moves with the camera: nothing of it is seen as unlike."""
    area_there, away = bare_posts()[120:390, 300:780], bare_posts()[120:390, 300 + 2 * PERIOD : 780 + 2 * PERIOD]
    v, u = np.mgrid[-1:1:270j, -1:1:480j]
    light = 1 - 0.3 * (u**2 + v**2) / 2
    rng = np.random.default_rng(1)
    first, second = (np.float32(each * light + rng.normal(0, 0.01, light.shape)) for each in (area_there, away))
    area = area_of(first)
    still, moved = (left_in_parts(area, pyramid(second, 4), shifted(-x, 0), None, PERIOD) for x in (PERIOD, 2 * PERIOD))
    assert abs(more_alike(moved, still)) < 5


def test_a_fast_pan_over_bricks_is_solved_as_before():
    frames, ways = panned(wall(), 20, 1)
    lock, start = solve(solve_staying, frames, "plane")
    assert len(lock.solved) == COUNT
    assert max(errors(lock, ways, start)) < 0.5


def test_frames_are_told_together_by_rivals_that_are_less_alike_on_the_whole():
    assert first_untold([3.0, 2.8, 3.5, 3.1, 2.9]) is None
    assert first_untold([3.0, 2.8]) == 0  # too few to tell
    assert first_untold([4.0, 4.5]) is None  # two that do so well enough
    assert first_untold([0.2, -0.5, 0.4, 0.1, -0.2, 0.3]) == 0
    assert first_untold([3.0, 3.2, 2.8, 3.1, -3.0, 3.0]) == 4  # a rival is more alike
    assert first_untold([3.0, 3.2, 2.8, 3.1, 3.0, 0.1, 0.0, 0.2, -0.1]) in (4, 5)  # they become as alike
    assert first_untold([9.0, 12.0]) is None  # each by itself


def test_frames_that_prove_nothing_are_told_by_the_next_that_does():
    assert first_untold([None, None, 9.0]) is None
    assert first_untold([None, 9.0, None, None, 0.1]) == 2
    assert first_untold([None, None, 0.1]) == 0
    assert first_untold([None, None]) is None  # it hardly moves at all


def test_a_field_that_rides_on_bare_posts_is_refused():
    frames, ways = panned(bare_posts(), 20, 2)
    lock, off = ridden(frames, ways, "perspective")
    assert len(lock.solved) < 4
    assert max(off) < 1.0
    assert any(
        "repeats every" in words or "too little texture" in words or "confidence" in words for words in lock.lost
    )


def test_dirt_on_the_lens_does_not_hold_a_field_that_rides_on_bare_posts():
    """What stays with the frame is all that could tell the posts apart, and speaks for standing still."""
    frames, ways = panned(bare_posts(), 20, 2)
    dirt = cv2.GaussianBlur(np.random.default_rng(5).standard_normal((HEIGHT, WIDTH)).astype(np.float32), (0, 0), 12)
    lock, off = ridden([np.float32(frame + 0.3 * dirt) for frame in frames], ways, "similarity")
    assert max(off) < 1.0
    assert any("repeats every" in words for words in lock.lost)


def test_a_field_that_rides_on_posts_before_a_photograph_is_held():
    """Steps of 15 to 20 px over posts 16 px apart, in a field of 160 × 160 px."""
    frames, ways = panned(posts_before("camera"), 16, 3)
    lock, off = ridden(frames, ways, "perspective")
    assert len(lock.solved) >= COUNT - 2
    assert max(off) < 0.3


def ridden(frames, ways, motion):
    """A plane lock whose field moves with what it is drawn on, and how far each frame is off at its corners, px."""
    box, start = (160, 55, 320, 215), COUNT // 2
    mask = np.zeros((HEIGHT, WIDTH), np.float32)
    mask[box[1] : box[3], box[0] : box[2]] = 1
    lock = Lock(id="l", name="L", kind="plane", reference_frame=start, motion=motion)
    found = solve_plane(lock, frames.__getitem__, mask, lambda frame: None, range(COUNT))
    corners = np.array([[[x, y] for x in box[::2] for y in box[1::2]]], float)
    off = []
    for entry in found.solved:
        truth = cv2.perspectiveTransform(corners, ways[entry.frame] @ np.linalg.inv(ways[start]))
        there = cv2.perspectiveTransform(corners, np.reshape(entry.homography, (3, 3)))
        off.append(float(np.sqrt(((truth - there) ** 2).sum(axis=2).mean())))
    return found, off


def test_frames_that_were_solved_stay_when_only_missing_ones_are_looked_for():
    (held, _), (bare, _) = (panned(sheet, 10, 2) for sheet in (posts_before("camera"), bare_posts()))
    mask = np.zeros((HEIGHT, WIDTH), np.float32)
    mask[55:215, 160:320] = 1
    lock = Lock(id="l", name="L", kind="plane", reference_frame=COUNT // 2)
    before = solve_plane(lock, held.__getitem__, mask, lambda frame: None, range(4, 13)).but(motion="similarity")
    after = solve_plane(before, bare.__getitem__, mask, lambda frame: None, range(COUNT), missing_only=True)
    assert after.solved == before.solved
    assert any("repeats every" in words for words in after.lost)


def test_a_field_that_hardly_moves_needs_no_proof_and_one_that_moves_does():
    fit = Fit(np.eye(3), 1.0, 1.0, 0.0, 0.0, 1.0)
    still, moving = Doubts(), Doubts()
    for frame, moved in enumerate([0.05, 0.2, 0.1], start=1):
        still.note(frame, Decision(fit, None, moved))
        moving.note(frame, Decision(fit, None, 2 * moved))
    assert still.untold(0).first is None
    assert moving.untold(0).first == 1
    moving.note(4, Decision(fit, 9.0, 1.6))  # the next one tells them all
    assert moving.untold(0).first is None


def test_a_few_frames_that_seem_told_are_not_kept_where_the_next_ones_show_that_nothing_tells():
    """A codec carries its own noise along with a picture that it moved by a period too many: that proves nothing."""
    short, long = Doubts(), Doubts()
    for doubts, told in ((short, 3), (long, 9)):
        for frame in range(1, told + 1):
            doubts.note(frame, Decision(None, 8.0))
        for frame in range(told + 1, told + 5):
            doubts.note(frame, Decision(None, -6.0))
    assert short.untold(0).first == 1
    assert long.untold(0).first == 10
