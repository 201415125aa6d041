"""Damage that is done to mattes on purpose, to see whether readings find it."""

from __future__ import annotations

import cv2
import numpy as np

Matte = np.ndarray


def _blob(shape: tuple[int, int], at: tuple[int, int], across: float, down: float) -> Matte:
    y, x = np.mgrid[: shape[0], : shape[1]]
    away = np.sqrt(((x - at[0]) / across) ** 2 + ((y - at[1]) / down) ** 2)
    return np.clip((1 - away) / 0.15 + 0.5, 0, 1).astype(np.float32)


def _place(mask: np.ndarray, rng: np.random.Generator, clear: int) -> tuple[int, int]:
    inside = cv2.erode(mask.astype(np.uint8), np.ones((clear, clear)), borderValue=0)
    rows, columns = np.nonzero(inside if inside.any() else mask)
    k = rng.integers(len(rows))
    return int(columns[k]), int(rows[k])


def damaged(alpha: Matte, truth: Matte, seed: int) -> dict[str, Matte]:
    """A matte damaged in twelve ways: clouds that stay, roofs that go, an edge that is moved, grown, shrunk."""
    rng = np.random.default_rng(seed)
    width = alpha.shape[1]
    sky, ground = truth < 0.01, truth > 0.99
    out = {}
    for name, share in (("small cloud", 0.03), ("cloud", 0.06)):
        cloud = _blob(alpha.shape, _place(sky, rng, 40), share * width, 0.35 * share * width) * (truth < 0.5)
        out[name] = np.maximum(alpha, cloud)
    thin = 0.5 * _blob(alpha.shape, _place(sky, rng, 40), 0.07 * width, 0.03 * width)
    out["thin cloud"] = np.maximum(alpha, thin)
    wisp = 0.3 * _blob(alpha.shape, _place(sky, rng, 60), 0.013 * width, 0.012 * width)
    out["wisp"] = np.maximum(alpha, wisp * (truth < 0.01))
    for name, share in (("small roof", 0.025), ("roof", 0.05)):
        out[name] = alpha * (1 - _blob(alpha.shape, _place(ground, rng, 20), share * width, 0.6 * share * width))
    column = int(rng.integers(width // 10, width - width // 10))
    top = int(np.argmax(truth[:, column] > 0.99))
    out["roof in the sky line"] = alpha * (
        1 - _blob(alpha.shape, (column, top + width // 50), 0.04 * width, 0.03 * width)
    )
    for name, by in (("low edge", (3, 0)), ("high edge", (-3, 0)), ("slanting edge", (2, 2))):
        out[name] = np.roll(alpha, by, (0, 1))
    out["grown edge"] = cv2.dilate(alpha, np.ones((5, 5)))
    out["shrunk edge"] = cv2.erode(alpha, np.ones((5, 5)))
    return out
