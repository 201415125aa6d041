"""Noisy frames averaged along what moves: against statistics, what moves by itself, and the true matte."""

import cv2
import numpy as np
from scipy.ndimage import convolve
from skimage import data

from skies_plates import clouds, ground
from zonal_mantle.api import Session, new
from zonal_mantle.matte.over_time import GRAINY, averaged, share_of
from zonal_mantle.matte.sky_region import plate_noise
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.shot import ClearSkyPull, Matte

NOISE = 0.02


def panned(count: int = 5, step: float = 3.4, noise: float = NOISE) -> list[np.ndarray]:
    """A photograph passed by, (240, 400, 3) scene-linear, with other grain on each frame."""
    rng = np.random.default_rng(3)
    whole = data.astronaut()[120:360, :460].astype(np.float32) / 255
    frames = []
    for k in range(count):
        moved = cv2.warpAffine(whole, np.float32([[1, 0, -step * k], [0, 1, 0]]), (400, 240), flags=cv2.INTER_CUBIC)
        codes = np.clip(moved + rng.normal(0, noise, moved.shape), 0, 1)
        frames.append(np.asarray(srgb_decode(codes), np.float32))
    return frames


def noise_in(codes: np.ndarray) -> float:
    """By Immerkær's mask (Fast Noise Variance Estimation, 1996), the middle of its values instead of their mean."""
    mask = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], float)
    return float(np.median(np.abs(convolve(codes.mean(axis=2).astype(float), mask))) / 0.6745 / 6)


def test_the_mean_of_five_has_the_noise_of_five():
    """√5 less where all five are alike."""
    frames = panned()
    calm, more = averaged(frames[2], [frames[k] for k in (0, 1, 3, 4)], NOISE)
    before, after = (noise_in(srgb_encode(each)[40:200, 60:340]) for each in (frames[2], calm))
    assert 0.35 < after / before < 0.65
    assert np.median(more[40:200, 60:340]) < 1.15


def test_the_picture_stays_as_sharp_as_it_was():
    """Against the photograph without grain: nearer, at its edges as well."""
    clean = panned(3, noise=0.0)[2]
    frames = panned()
    calm, _ = averaged(frames[2], [frames[k] for k in (0, 1, 3, 4)], NOISE)
    codes = srgb_encode(clean)
    slope = cv2.GaussianBlur(np.abs(cv2.Sobel(np.float32(codes), cv2.CV_32F, 1, 0)).max(axis=2), (0, 0), 1.0)
    inner = np.zeros(slope.shape, bool)
    inner[30:-30, 30:-30] = True
    steep, flat = inner & (slope > np.percentile(slope, 90)), inner & (slope < np.percentile(slope, 50))
    for where, most in ((steep, 0.95), (flat, 0.5)):
        before, after = (np.sqrt(np.mean((srgb_encode(each) - codes)[where] ** 2)) for each in (frames[2], calm))
        assert after < most * before


def test_what_is_on_this_frame_alone_stays_and_leaves_no_ghost():
    frames = panned(3, step=0.0)
    with_bird = frames[1].copy()
    with_bird[100:112, 200:224] = (0.9, 0.05, 0.05)
    calm, more = averaged(with_bird, [frames[0], frames[2]], NOISE)
    inside = np.s_[102:110, 202:222]
    assert np.abs(calm[inside] - with_bird[inside]).max() < 0.02
    assert more[inside].min() > 1.5  # it has the noise of one frame, and says so
    left, _ = averaged(frames[1], [with_bird, frames[2]], NOISE)
    assert np.abs(srgb_encode(left)[inside] - srgb_encode(frames[1])[inside]).mean() < 1.2 * NOISE


def test_a_clean_plate_asks_no_frame_beside():
    assert share_of(GRAINY[0]) == 0
    assert share_of(GRAINY[1]) == 1
    assert plate_noise(panned(1, noise=0.005)[0]) < GRAINY[0] < GRAINY[1] < plate_noise(panned(1, noise=0.03)[0])
    lone, more = averaged(panned(1)[0], [], NOISE)
    assert np.allclose(lone, panned(1)[0], rtol=0, atol=1e-5)
    assert (more == 1).all()


def test_light_that_is_not_a_number_stays_where_it_is():
    frames = panned(3)
    for value in (np.nan, np.inf, -1.0, 1e20):
        hurt = frames[0].copy()
        hurt[50:53, 60:63] = value
        calm, _ = averaged(frames[1], [hurt, frames[2]], NOISE)
        assert np.isfinite(calm[:, 80:]).all()
        assert calm.min() >= 0


def grainy_clip(folder, count: int = 5, grain: float = 0.03) -> list[np.ndarray]:
    """Horses' silhouettes filled with gravel, before clouds, passed by; writes the frames, returns their alphas."""
    rng = np.random.default_rng(8)
    wide, tall = 520, 270
    horse = 1 - data.horse().astype(np.float32)
    alpha = np.zeros((tall, wide), np.float32)
    alpha[190:] = 1
    for _ in range(60):
        w = int(rng.integers(10, 50))
        small = cv2.resize(horse, (w, round(0.82 * w)), interpolation=cv2.INTER_AREA)
        y, x = int(rng.integers(30, 205 - small.shape[0])), int(rng.integers(0, wide - w))
        part = alpha[y : y + small.shape[0], x : x + w]
        np.maximum(part, small, out=part)
    sky, fore = srgb_decode(clouds(4, (wide, tall), True)), srgb_decode(ground("gravel", (wide, tall))) * 0.3
    seen = np.float32(fore * alpha[..., None] + sky * (1 - alpha[..., None]))
    truths = []
    for k in range(count):
        move = np.float32([[1, 0, -5.3 * k], [0, 1, 0]])
        picture, truth = (cv2.warpAffine(each, move, (480, tall), flags=cv2.INTER_CUBIC) for each in (seen, alpha))
        noise = cv2.GaussianBlur(rng.standard_normal(picture.shape).astype(np.float32), (0, 0), 0.6)
        codes = np.clip(srgb_encode(np.clip(picture, 0, 1)) + grain * noise / noise.std(), 0, 1)
        cv2.imwrite(str(folder / f"plate.{k + 1:04d}.png"), np.round(codes[..., ::-1] * 255).astype(np.uint8))
        truths.append(np.clip(truth, 0, 1))
    return truths


def opened(folder, neighbours: int = 2) -> Session:
    session = new(folder / "plate.0001.png")
    pull = ClearSkyPull(id="a", neighbours=neighbours)
    session.shot = session.shot.with_zone_matte(session.shot.zones[0], Matte(id="m", name="Sky", pulls=(pull,)))
    return session


def test_a_grainy_clip_is_cut_better_with_the_frames_beside_it_and_the_same_in_any_order(tmp_path):
    truths = grainy_clip(tmp_path)
    band = cv2.dilate(((truths[2] > 0.004) & (truths[2] < 0.996)).astype(np.uint8), np.ones((9, 9))) > 0
    errors = {n: np.mean((opened(tmp_path, n).matte("zone1", 3) - truths[2])[band] ** 2) for n in (0, 1, 2)}
    assert errors[2] < 0.75 * errors[0]
    assert errors[1] < 0.9 * errors[0]
    session = opened(tmp_path)
    forward = [session.matte("zone1", frame) for frame in (1, 2, 3, 4)]
    assert (opened(tmp_path).matte("zone1", 3) == forward[2]).all()
    assert (opened(tmp_path).matte("zone1", 1) == forward[0]).all()


def test_a_missing_frame_beside_does_not_stop_one_that_is_there(tmp_path):
    truths = grainy_clip(tmp_path)
    session = opened(tmp_path)
    (tmp_path / "plate.0004.png").write_bytes(b"no picture")
    alpha = session.matte("zone1", 3)
    assert np.abs(alpha - truths[2]).mean() < 0.05
