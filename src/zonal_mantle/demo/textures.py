"""Painted stand-ins for natural things: tamarisks, grass, planks, earth. RGBA, scene-linear, premultiplied."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..skies.noise import clouds, smoothstep

Array = NDArray[np.float32]


def _linear(canvas: NDArray[np.uint8]) -> Array:
    """8-bit premultiplied canvas with display-coded colour to linear premultiplied float."""
    picture = canvas.astype(np.float32) / 255
    alpha = picture[..., 3:]
    there = alpha[..., 0] > 0
    shown = picture[there]
    out = np.zeros_like(picture)
    out[there, :3] = np.clip(shown[:, :3] / np.maximum(shown[:, 3:], 1e-4), 0, 1) ** 2.2 * shown[:, 3:]
    out[..., 3:] = alpha
    return np.asarray(out, np.float32)


def _shrink(picture: Array, factor: int) -> Array:
    h, w = picture.shape[:2]
    return np.asarray(cv2.resize(picture, (w // factor, h // factor), interpolation=cv2.INTER_AREA))


def tamarisk(rng: np.random.Generator, size: int = 640) -> Array:
    """A salt-bush tree with a feathery, see-through crown, seen from the side. (size, size, 4)."""
    n = size * 2
    canvas = np.zeros((n, n, 4), np.uint8)
    tips: list[tuple[float, float, float]] = []

    def grow(x: float, y: float, angle: float, length: float, width: float, depth: int) -> None:
        bend = rng.normal(0, 0.12)
        steps = 5
        px, py = x, y
        for _ in range(steps):
            angle += bend / steps
            nx, ny = px + np.cos(angle) * length / steps, py - np.sin(angle) * length / steps
            shade = rng.uniform(0.8, 1.1)
            colour = tuple(int(c * shade) for c in (88, 76, 64)) + (255,)
            cv2.line(canvas, (int(px), int(py)), (int(nx), int(ny)), colour, max(1, int(width)), cv2.LINE_AA)
            px, py = nx, ny
            if depth <= 3:
                tips.append((px, py, angle))
        if depth == 0:
            return
        for _ in range(rng.integers(2, 4)):
            grow(px, py, angle + rng.normal(0, 0.45), length * rng.uniform(0.62, 0.82), width * 0.62, depth - 1)

    for _ in range(rng.integers(4, 6)):
        base = n / 2 + rng.normal(0, n * 0.03)
        grow(base, n - 1, np.pi / 2 + rng.normal(0, 0.22), n * rng.uniform(0.19, 0.25), n * 0.013, 4)

    order = rng.permutation(len(tips))
    for k in order:
        x, y, angle = tips[k]
        light = 0.55 + 0.6 * np.clip(1.1 - y / n, 0, 1)
        for _ in range(8):
            a = angle + rng.normal(0, 0.9)
            reach = rng.uniform(0.008, 0.032) * n
            droop = rng.uniform(0.0, 0.35) * reach
            end = (int(x + np.cos(a) * reach), int(y - np.sin(a) * reach + droop))
            tone = light * rng.uniform(0.7, 1.25)
            base_colour = (104, 112, 74) if rng.random() < 0.8 else (142, 116, 92)
            colour = tuple(int(min(max(c * tone, 0), 255)) for c in base_colour) + (255,)
            cv2.line(canvas, (int(x), int(y)), end, colour, 2, cv2.LINE_AA)
    return _shrink(_linear(canvas), 2)


def grass(rng: np.random.Generator, size: tuple[int, int] = (128, 1024), density: float = 1.0) -> Array:
    """A strip of dry salt grass, blades up, thin at the top. (h, w, 4)."""
    h, w = size[0] * 2, size[1] * 2
    canvas = np.zeros((h, w, 4), np.uint8)
    tufts = np.clip(clouds(rng, (8, w), 1.0)[0] * 0.5 + 0.6, 0.05, 1.4)
    for _ in range(int(w * 2.6 * density)):
        x = rng.uniform(0, w)
        tall = h * rng.uniform(0.2, 0.75) * tufts[int(x) % w]
        lean = rng.normal(0, 0.22) * tall
        tone = rng.uniform(0.6, 1.15)
        base = (122, 118, 78) if rng.random() < 0.7 else (150, 134, 98)
        points = np.array([[x, h], [x + lean * 0.3, h - tall * 0.6], [x + lean, h - tall]], np.int32)
        colour = tuple(int(min(max(c * tone, 0), 255)) for c in base) + (255,)
        cv2.polylines(canvas, [points], False, colour, 2, cv2.LINE_AA)
    return _shrink(_linear(canvas), 2)


def earth(rng: np.random.Generator, size: tuple[int, int] = (256, 2048)) -> Array:
    """Trodden earth with gravel, dry moss and pale salt dust. (h, w, 4) opaque."""
    coarse, fine, grit = (clouds(rng, size, slope, 0.5) for slope in (1.4, 0.8, 0.35))
    value = np.clip(1 + 0.22 * coarse + 0.2 * fine + 0.28 * grit, 0.2, 2.4)[..., None]
    moss = smoothstep(0.2, 1.5, clouds(rng, size, 1.2, 0.5))[..., None]
    dust = smoothstep(0.9, 2.2, clouds(rng, size, 1.0, 0.5))[..., None]
    colour = np.array([0.150, 0.125, 0.098]) * (1 - moss) + moss * np.array([0.105, 0.11, 0.06])
    colour = colour * value * (1 - 0.6 * dust) + 0.6 * dust * 0.42
    return np.concatenate([colour, np.ones((*size, 1))], axis=-1).astype(np.float32)


def planks(
    rng: np.random.Generator,
    size: tuple[int, int],
    tone: tuple[float, float, float],
    boards: int,
    upright: bool = True,
) -> Array:
    """A weathered board wall: one colour a board, grain along it, dark gaps, damp foot. (h, w, 4) opaque."""
    h, w = size
    across = w if upright else h
    position = np.arange(across) / across * boards
    index = np.floor(position).astype(int)
    gap = np.minimum(position - index, 1 - (position - index)) * across / boards
    board = rng.normal(1, 0.13, boards + 1)[index]
    line = (board * (0.35 + 0.65 * np.clip(gap / 1.6, 0, 1)))[None, :] if upright else None
    if line is None:
        line = (board * (0.35 + 0.65 * np.clip(gap / 1.6, 0, 1)))[:, None]
    grain = clouds(rng, (h, w), 1.0, 0.12 if upright else 8.0) * 0.09
    stain = clouds(rng, (h, w), 1.7) * 0.10
    damp = 1 - 0.45 * smoothstep(0.72, 1.0, np.linspace(0, 1, h, dtype=np.float32))[:, None]
    value = np.clip(line * (1 + grain + stain) * damp, 0.02, 3)
    colour = value[..., None] * np.array(tone, np.float32)
    return np.concatenate([colour, np.ones((h, w, 1))], axis=-1).astype(np.float32)


def roof(rng: np.random.Generator, size: tuple[int, int]) -> Array:
    """Courses of wooden shingles with moss. (h, w, 4) opaque."""
    h, w = size
    rows = 16
    y = np.arange(h)[:, None] / h * rows
    row = np.floor(y).astype(int)
    x = np.arange(w)[None, :] / w * 60 + (row % 2) * 0.5
    tint = rng.normal(1, 0.16, (rows + 1, 62))[row, np.floor(x).astype(int) % 62]
    edge = 0.55 + 0.45 * np.clip((y - row) * 4, 0, 1)
    moss = smoothstep(0.4, 1.6, clouds(rng, (h, w), 1.5))[..., None]
    colour = (tint * edge)[..., None] * np.array([0.15, 0.125, 0.11])
    colour = colour * (1 - 0.6 * moss) + moss * 0.6 * np.array([0.10, 0.115, 0.055])
    return np.concatenate([colour, np.ones((h, w, 1))], axis=-1).astype(np.float32)


def add_openings(wall: Array, boxes: list[tuple[float, float, float, float]]) -> Array:
    """Windows and doors in a wall: (x, y, width, height) in shares of the wall, dark, with a pale frame."""
    out = wall.copy()
    h, w = out.shape[:2]
    for x, y, bw, bh in boxes:
        x0, x1, y0, y1 = int(x * w), int((x + bw) * w), int(y * h), int((y + bh) * h)
        rim = max(2, w // 220)
        out[y0 - rim : y1 + rim, x0 - rim : x1 + rim, :3] = (0.34, 0.32, 0.28)
        depth = np.linspace(0.018, 0.05, max(y1 - y0, 1), dtype=np.float32)[:, None, None]
        out[y0:y1, x0:x1, :3] = depth * np.array([0.9, 1.0, 1.1], np.float32)
        out[y0:y1, (x0 + x1) // 2 - 1 : (x0 + x1) // 2 + 1, :3] = (0.2, 0.19, 0.17)
    return out
