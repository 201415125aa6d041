"""The second look at a sky's edge: against plain products, and on edges of pictures that it was not taught on."""

from dataclasses import replace
from importlib.resources import files

import cv2
import numpy as np
import pytest
from scipy.ndimage import correlate, map_coordinates
from skimage import data

from skies_plates import clouds, ground
from zonal_mantle.matte import find_sky
from zonal_mantle.matte.sky_edge import Looked, described, looked_again, second_look
from zonal_mantle.matte.sky_matte import first_look, sky_matte
from zonal_mantle.matte.sky_region import working
from zonal_mantle.media.curves import srgb_decode, srgb_encode
from zonal_mantle.shot import ClearSkyPull, Keyed

SIZE = 47, 90  # rows, columns: more than one block of pixels a row, and not a multiple of it


@pytest.fixture
def looked() -> Looked:
    rng = np.random.default_rng(11)
    alpha = np.clip(cv2.GaussianBlur(rng.normal(0.5, 2.0, SIZE), (0, 0), 1.5), 0, 1).astype(np.float32)
    off = rng.uniform(4, 300, SIZE).astype(np.float32)
    pixels, sky = (rng.uniform(0.01, 1, (*SIZE, 3)).astype(np.float32) for _ in range(2))
    way = rng.normal(0, 0.5, (*SIZE, 3)).astype(np.float32)
    near = rng.integers(0, 3, SIZE).astype(np.uint8)
    return Looked(alpha, off, pixels, sky, way, near, rng.random((12, 23)).astype(np.float32) * 0.2, 0.01)


def told_plainly(looked: Looked) -> np.ndarray:
    """All 53 of every pixel, by SciPy and NumPy in float64. (h, w, 53)."""
    alpha, off = looked.alpha.astype(np.float64), looked.off.astype(np.float64)
    height, width = alpha.shape
    light = np.sqrt((looked.sky.astype(np.float64) ** 2).sum(2)) + 1e-4
    share = np.clip((looked.pixels - looked.sky) / light[..., None], -1.5, 3)

    def moved(picture: np.ndarray, dy: int, dx: int) -> np.ndarray:
        window = np.zeros((5, 5))
        window[2 + dy, 2 + dx] = 1
        return correlate(picture, window, mode="nearest")

    def spread(small: np.ndarray) -> np.ndarray:
        y = (np.arange(height) + 0.5) * small.shape[0] / height - 0.5
        x = (np.arange(width) + 0.5) * small.shape[1] / width - 0.5
        return map_coordinates(small, np.meshgrid(y, x, indexing="ij"), order=1, mode="nearest")

    out = [moved(alpha, dy, dx) for dy in range(-2, 3) for dx in range(-2, 3)]
    sides = ((0, 0), (-1, 0), (1, 0), (0, -1), (0, 1))
    out += [np.log1p(np.minimum(moved(off, *side), 200)) / 3 for side in sides]
    out += [moved(share[..., c], *side) for side in sides for c in range(3)]
    out += [np.clip(looked.way[..., c] / light, -1.5, 3) for c in range(3)]
    quarter = cv2.resize(looked.alpha, (width // 4, height // 4), interpolation=cv2.INTER_AREA).astype(np.float64)
    out += [spread(correlate(quarter, np.full((n, n), 1 / n**2), mode="reflect")) for n in (3, 5, 9)]
    out += [spread(looked.region.astype(np.float64)), np.full(alpha.shape, 20 * looked.noise)]
    return np.stack(out, axis=2)


def test_what_is_told_of_a_pixel_is_what_it_says(looked):
    rows, columns = (each.ravel() for each in np.mgrid[0 : SIZE[0], 0 : SIZE[1]])
    assert np.allclose(described(looked, rows, columns), told_plainly(looked).reshape(-1, 53), rtol=0, atol=2e-4)


def test_the_second_look_is_that_of_plain_products(looked):
    """With the weights that ship, in float64; what is not mixed stays as it was."""
    with (files("zonal_mantle.matte") / "sky_edge.npz").open("rb") as file, np.load(file) as stored:
        net = {name: stored[name].astype(np.float64) for name in stored.files}
    x = x0 = told_plainly(looked)
    for layer in range(2):
        x = np.maximum(x @ net[f"weights{layer}"] + net[f"offsets{layer}"], 0)
    held = np.clip(looked.alpha, 0.01, 0.99)
    odds = held / (1 - held) * np.exp((x @ net["weights2"] + net["offsets2"])[..., 0])
    wanted = np.clip((odds / (1 + odds) - 0.02) / 0.95, 0, 1)
    ground = (looked.near == 2) & (x0[..., 51] <= 0.05)
    wanted = np.where(ground, np.maximum(wanted, looked.alpha), wanted)
    again = looked_again(looked.alpha) & (looked.off > 6)
    assert 0.2 < again.mean() < 0.98
    assert second_look(looked, 6.0) == pytest.approx(np.where(again, wanted, looked.alpha), abs=2e-3)


def test_what_lies_within_the_noise_stays_empty(looked):
    clear = looked.alpha.copy()
    clear[looked.off <= 100] = 0
    out = second_look(replace(looked, alpha=clear), 100.0)
    assert (out[looked.off <= 100] == 0).all()


@pytest.mark.parametrize("level", [0.0, 1.0])
def test_where_nothing_is_mixed_nothing_changes(looked, level):
    plain = np.full(SIZE, level, np.float32)
    assert (second_look(replace(looked, alpha=plain), 3.0) == plain).all()


def herd(seed: int, texture: str, blue: bool, grain: float) -> tuple[np.ndarray, np.ndarray]:
    """scikit-image's silhouette of a horse, many of them small, filled by a photograph, before clouds: scene-linear
    (360, 640, 3), and its alpha. No such shape, photograph or sky is among the lessons."""
    rng = np.random.default_rng(seed)
    horse = 1 - data.horse().astype(np.float32)
    alpha = np.zeros((360, 640), np.float32)
    alpha[250:] = 1
    for _ in range(50):
        w = int(rng.integers(12, 60))
        small = cv2.resize(horse, (w, round(0.82 * w)), interpolation=cv2.INTER_AREA)
        y, x = int(rng.integers(20, 265 - small.shape[0])), int(rng.integers(0, 640 - w))
        part = alpha[y : y + small.shape[0], x : x + w]
        np.maximum(part, small, out=part)
    behind, before = srgb_decode(clouds(seed, (640, 360), blue)), srgb_decode(ground(texture, (640, 360))) * 0.3
    codes = srgb_encode(before * alpha[..., None] + behind * (1 - alpha[..., None]))
    noise = cv2.GaussianBlur(rng.standard_normal(codes.shape).astype(np.float32), (0, 0), 0.6)
    codes = np.round(np.clip(codes + grain * noise / noise.std(), 0, 1) * 255) / 255
    return np.ascontiguousarray(srgb_decode(codes), np.float32), alpha


@pytest.mark.parametrize(
    ("texture", "blue", "grain", "most"),
    [("grass", True, 0.011, 0.8), ("gravel", False, 0.011, 0.8), ("coffee", True, 0.03, 0.6)],
)
def test_edges_nobody_drew_for_it_come_out_better(texture, blue, grain, most):
    """Mean square error of alpha in the band round what is mixed, against the first look's."""
    pixels, truth = herd(5, texture, blue, grain)
    found, pull = find_sky(working(pixels)), ClearSkyPull()
    first = first_look(pixels, pull, found).alpha
    second = sky_matte(pixels, pull, found).alpha
    band = cv2.dilate(((truth > 0.004) & (truth < 0.996)).astype(np.uint8), np.ones((9, 9))) > 0
    before, after = (float(np.mean((each - truth)[band] ** 2)) for each in (first, second))
    assert after < most * before


def test_a_pull_that_clears_more_clears_more():
    """*Clear below* is heard after the second look as before it."""
    pixels, _ = herd(6, "grass", True, 0.02)
    found = find_sky(working(pixels))
    low, high = (sky_matte(pixels, ClearSkyPull(empty=Keyed(constant=e), full=Keyed(constant=30.0)), found).alpha
                 for e in (3.0, 20.0))  # fmt: skip
    assert (high == 0).mean() > (low == 0).mean() + 0.002
