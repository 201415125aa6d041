"""Lens and film: softness, drizzle, grain."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.curves import srgb_decode, srgb_encode

Array = NDArray[np.float32]

SOFTNESS_PX = 0.72  # standard deviation of the lens's blur at a width of 1280
GRAIN_CODED = 0.012  # standard deviation in coded values at middle grey


def soften(picture: Array, width: int) -> Array:
    """The lens's blur. Linear, so it may be put on colour and alpha alike."""
    return np.asarray(cv2.GaussianBlur(picture, (0, 0), max(SOFTNESS_PX * width / 1280, 0.3)))


def drizzle(shape: tuple[int, int], seed: int, frame: int) -> Array:
    """How much of each pixel a faint streak of rain takes, (h, w) 0…0.05."""
    rng = np.random.default_rng([seed, 41, frame])
    h, w = shape
    canvas = np.zeros((h, w), np.uint8)
    count = max(8, w * h // 5200)
    for x, y, size, tone in zip(
        rng.uniform(0, w, count),
        rng.uniform(0, h, count),
        rng.uniform(0.012, 0.045, count),
        rng.uniform(90, 255, count),
    ):
        length = size * h
        end = (int(x + length * 0.07), int(y + length))
        cv2.line(canvas, (int(x), int(y)), end, float(tone), 1, cv2.LINE_AA)
    return np.asarray(cv2.GaussianBlur(canvas, (0, 0), 0.9).astype(np.float32) * (0.05 / 255))


def rain_over(picture: Array, streaks: Array, light: float = 0.72) -> Array:
    """Lays the streaks over a picture."""
    return np.asarray(picture * (1 - streaks[..., None]) + light * streaks[..., None], np.float32)


def grain(picture: Array, seed: int, frame: int, strength: float = 1.0) -> Array:
    """Film grain: coded, stronger in the middle tones, a little wider than a pixel, partly common to the colours."""
    rng = np.random.default_rng([seed, 42, frame])
    h, w = picture.shape[:2]
    common = rng.standard_normal((h, w, 1), np.float32)
    own = rng.standard_normal((h, w, 3), np.float32)
    noise = cv2.GaussianBlur(0.75 * common + 0.66 * own, (0, 0), 0.6)
    noise /= max(float(noise.std()), 1e-6)
    coded = srgb_encode(np.maximum(picture, 0)).astype(np.float32)
    amount = GRAIN_CODED * strength * (0.55 + 1.8 * np.clip(coded, 0, 1) * (1 - np.clip(coded, 0, 1)))
    return np.asarray(srgb_decode(np.maximum(coded + noise * amount, 0)), np.float32)
