"""Plates with clouds: photographs of scikit-image as ground before skies of soft noise, with their true matte."""

from __future__ import annotations

import cv2
import numpy as np
from skimage import data

from zonal_mantle.media.curves import srgb_decode, srgb_encode


def covered(seed: int, size: tuple[int, int], octaves: int) -> np.ndarray:
    """Noise over octaves of scale, about 0. (h, w)."""
    rng = np.random.default_rng(seed)
    w, h = size
    cover = np.zeros((h, w), np.float32)
    for octave in range(octaves):
        small = rng.standard_normal((max(h >> (7 - octave), 2) + 2, max(w >> (7 - octave), 2) + 2)).astype(np.float32)
        cover += cv2.resize(small, (w, h), interpolation=cv2.INTER_CUBIC) / 2**octave
    return cover


def clouds(seed: int, size: tuple[int, int], blue: bool) -> np.ndarray:
    """Coded sky: clouds of noise over octaves of scale, white before blue or grey on grey. (h, w, 3)."""
    share = np.clip(covered(seed, size, 4) * 0.4 + 0.4, 0, 1)[..., None]
    fall = np.linspace(0, 1, size[1], dtype=np.float32)[:, None, None]
    low, high = ((0.35, 0.5, 0.75), (0.9, 0.92, 0.95)) if blue else ((0.62, 0.64, 0.68), (0.85, 0.85, 0.86))
    return (np.float32(low) + 0.1 * fall) * (1 - share) + np.float32(high) * share


def heaped(seed: int, size: tuple[int, int], soft: float) -> np.ndarray:
    """Coded sky: heaped clouds before blue, their rims `soft` pixels (a deviation) wide. (h, w, 3)."""
    cover = covered(seed, size, 5)
    share = cv2.GaussianBlur(np.clip(cover * 6 + 0.5, 0, 1), (0, 0), soft)[..., None]
    fall = np.linspace(0, 1, size[1], dtype=np.float32)[:, None, None]
    white = np.float32((0.9, 0.92, 0.95)) - 0.12 * np.clip(cover, 0, 1)[..., None]
    return (np.float32((0.3, 0.48, 0.75)) + 0.1 * fall) * (1 - share) + white * share


def ground(name: str, size: tuple[int, int]) -> np.ndarray:
    """Coded photograph of solid ground, as wide as the plate. (h, w, 3)."""
    picture = getattr(data, name)().astype(np.float32) / 255
    picture = np.dstack([picture] * 3) if picture.ndim == 2 else picture[..., :3]
    height = round(size[0] * picture.shape[0] / picture.shape[1])
    return np.tile(cv2.resize(picture, (size[0], height), interpolation=cv2.INTER_AREA), (2, 1, 1))[: size[1]]


def cloudy(
    seed: int, name: str = "grass", size: tuple[int, int] = (640, 360), blue: bool = True, grain: float = 0.011
) -> tuple[np.ndarray, np.ndarray]:
    """A plate (h, w, 3), scene-linear, and its true alpha (h, w): a ridge with gaps before clouds, 8-bit, grainy."""
    rng = np.random.default_rng(100 + seed)
    w, h = size
    x = np.arange(w, dtype=np.float32)
    ridge = 0.6 * h + 12 * np.sin(x / 47 + seed) + 5 * np.sin(x / 9) + rng.normal(0, 1.2, w)
    y = np.arange(h, dtype=np.float32)[:, None]
    alpha = np.clip(y - ridge + 0.5, 0, 1)
    for _ in range(25):  # gaps in what stands, and things that stand in the sky
        gx, gy = rng.uniform(10, w - 10), 0.6 * h + rng.uniform(-6, 26)
        spot = np.clip(rng.uniform(1.2, 4) - np.hypot(x - gx, y - gy) + 0.5, 0, 1)
        alpha = np.minimum(alpha, 1 - spot)
    alpha = cv2.GaussianBlur(alpha.astype(np.float32), (0, 0), 0.6)
    sky, fore = (srgb_decode(part) for part in (clouds(seed, size, blue), ground(name, size)))
    seen = fore * alpha[..., None] + sky * (1 - alpha[..., None])
    coded = np.where(seen <= 0.0031308, seen * 12.92, 1.055 * np.maximum(seen, 1e-9) ** (1 / 2.4) - 0.055)
    noise = cv2.GaussianBlur(rng.standard_normal((h, w, 3)).astype(np.float32), (0, 0), 0.6)
    coded = np.round(np.clip(coded + grain * noise / noise.std(), 0, 1) * 255) / 255
    return np.ascontiguousarray(srgb_decode(coded), np.float32), alpha


def crown(seed: int, blue: bool, leaf: float = 2.2) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A plate, its alpha, and its sky, scene-linear: a crown of leaves with gaps all through it before clouds. leaf :
    size of leaves and gaps, px (deviation of a blur)."""
    rng = np.random.default_rng(seed)
    width, height = size = 960, 540
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    leaves = cv2.GaussianBlur(rng.standard_normal((height, width)).astype(np.float32), (0, 0), leaf)
    leaves /= leaves.std()
    inside = 1 - np.hypot((x - 480) / 330, (y - 330) / 210)  # above 0 within the crown
    alpha = np.clip((leaves + 1.0) * 2 + 0.5, 0, 1) * np.clip(inside * 40 + leaves * 4, 0, 1)
    alpha = np.maximum(alpha, np.clip(y - 440, 0, 1)).astype(np.float32)
    alpha = cv2.GaussianBlur(alpha, (0, 0), 0.5)
    sky, fore = srgb_decode(clouds(seed, size, blue)), 0.5 * srgb_decode(ground("grass", size))
    codes = srgb_encode(fore * alpha[..., None] + sky * (1 - alpha[..., None]))
    codes = codes + rng.normal(0, 0.008, codes.shape)
    seen = srgb_decode(np.round(np.clip(codes, 0, 1) * 255) / 255)
    return np.ascontiguousarray(seen, np.float32), alpha, sky


def domed(seed: int, name: str, heaps: bool) -> tuple[np.ndarray, np.ndarray]:
    """A plate, scene-linear, and its alpha: three ribbed domes of pale green copper on photographed walls before white
    clouds, heaped or soft."""
    width, height = size = 640, 360
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    alpha, fore = np.float32(y > 250), 0.55 * srgb_decode(ground(name, size))
    for cx, cy, radius in ((320, 190, 90), (110, 190, 36), (530, 200, 40)):
        dome = np.clip(radius - np.hypot(x - cx, (y - cy) / 0.95) + 0.5, 0, 1) * (y < cy)
        u = np.clip((x - cx) / radius, -1, 1)
        ribs = np.clip(np.abs((np.arcsin(u) / np.pi * 12) % 1 - 0.5) * 30 - 1, 0, 1)
        light = (0.62 + 0.38 * np.sqrt(np.maximum(1 - (u + 0.25) ** 2, 0))) * (0.75 + 0.25 * ribs)
        copper = srgb_decode(np.float32((0.74, 0.87, 0.82)) * np.float32(light[..., None] ** 0.6))
        fore = np.where(dome[..., None] > 0, copper, fore)
        wall = np.float32((np.abs(x - cx) < radius * 1.05) & (y >= cy))
        alpha = np.max([alpha, dome, wall], axis=0).astype(np.float32)
    alpha = cv2.GaussianBlur(alpha, (0, 0), 0.6)
    sky = srgb_decode(heaped(seed, size, 2.0) if heaps else clouds(seed, size, True))
    codes = srgb_encode(fore * alpha[..., None] + sky * (1 - alpha[..., None]))
    codes = codes + np.random.default_rng(seed).normal(0, 0.006, codes.shape)
    return np.ascontiguousarray(srgb_decode(np.round(np.clip(codes, 0, 1) * 255) / 255), np.float32), alpha
