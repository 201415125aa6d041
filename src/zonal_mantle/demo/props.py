"""Painted stand-ins for built things: wind pump, tip wagon, poles with wires. RGBA, scene-linear, premultiplied."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..skies.noise import clouds
from .textures import _linear, _shrink

Array = NDArray[np.float32]
Canvas = NDArray[np.uint8]


def _beam(
    canvas: Canvas, a: tuple[float, float], b: tuple[float, float], width: float, colour: tuple[int, ...]
) -> None:
    shift = 4
    p = [(int(a[0] * 16), int(a[1] * 16)), (int(b[0] * 16), int(b[1] * 16))]
    cv2.line(canvas, p[0], p[1], (*colour, 255), max(1, round(width)), cv2.LINE_AA, shift)


def pump_tower(size: int = 768) -> Array:
    """The lattice tower of the wind pump: four legs, braces, a platform, a rod down the middle."""
    n = size * 2
    canvas = np.zeros((n, n, 4), np.uint8)
    dark, mid, pale = (62, 56, 50), (92, 82, 70), (122, 110, 94)
    top, spread_top, spread_foot = 0.06, 0.055, 0.2

    def leg(side: float, v: float, inset: float = 1.0) -> tuple[float, float]:
        half = (spread_top + (spread_foot - spread_top) * v) * inset
        return n * (0.5 + side * half), n * (top + (1 - top) * v)

    for inset, colour, width in ((0.62, dark, 6), (1.0, mid, 9)):
        levels = np.linspace(0, 1, 7) ** 0.9
        for v0, v1 in zip(levels[:-1], levels[1:]):
            _beam(canvas, leg(-1, v0, inset), leg(1, v1, inset), width * 0.45, colour)
            _beam(canvas, leg(1, v0, inset), leg(-1, v1, inset), width * 0.45, colour)
            _beam(canvas, leg(-1, v1, inset), leg(1, v1, inset), width * 0.6, colour)
        for side in (-1, 1):
            _beam(
                canvas,
                leg(side, 0, inset),
                leg(side, 1, inset),
                width,
                pale if side < 0 and inset == 1 else colour,
            )
    _beam(canvas, (n * 0.5, n * top), (n * 0.5, n), 4, dark)
    _beam(canvas, (n * 0.39, n * 0.2), (n * 0.61, n * 0.2), 12, pale)
    for k in range(7):
        _beam(canvas, (n * (0.39 + k * 0.0367), n * 0.2), (n * (0.39 + k * 0.0367), n * 0.165), 3, mid)
    _beam(canvas, (n * 0.39, n * 0.165), (n * 0.61, n * 0.165), 3, mid)
    _beam(canvas, (n * 0.47, n * 0.07), (n * 0.53, n * 0.07), 34, mid)
    return _shrink(_linear(canvas), 2)


def pump_wheel(size: int = 768, vanes: int = 6) -> Array:
    """Six lattice vanes on a hub: laths as thin as a pixel or two, with true holes between."""
    n = size * 2
    canvas = np.zeros((n, n, 4), np.uint8)
    c = n / 2
    for k in range(vanes):
        a = 2 * np.pi * k / vanes
        along, across = np.array([np.cos(a), np.sin(a)]), np.array([-np.sin(a), np.cos(a)])
        tone = 0.8 + 0.35 * max(0.0, -np.sin(a))

        def at(r: float, s: float, along: NDArray = along, across: NDArray = across) -> tuple[float, float]:
            p = c + (along * r + across * s) * n * 0.48
            return float(p[0]), float(p[1])

        wood = tuple(int(v * tone) for v in (132, 116, 92))
        _beam(canvas, at(0, 0), at(1.0, 0), 9, wood)
        for s in (0.0, 0.055, 0.11, 0.165, 0.21):
            _beam(canvas, at(0.24, s), at(0.985, s), 3.4 if s < 0.2 else 5, wood)
        for r in np.linspace(0.24, 0.985, 15):
            _beam(canvas, at(r, -0.02), at(r, 0.21), 3.4, wood)
        nxt = a + 2 * np.pi / vanes
        tip = c + np.array([np.cos(nxt), np.sin(nxt)]) * n * 0.48 * 0.9
        _beam(canvas, at(0.9, 0), (float(tip[0]), float(tip[1])), 2, (80, 74, 66))
    cv2.circle(canvas, (int(c), int(c)), int(n * 0.03), (70, 62, 54, 255), -1, cv2.LINE_AA)
    cv2.circle(canvas, (int(c), int(c)), int(n * 0.013), (120, 110, 96, 255), -1, cv2.LINE_AA)
    return _shrink(_linear(canvas), 2)


def wagon(rng: np.random.Generator, size: tuple[int, int] = (576, 896)) -> Array:
    """A narrow-gauge tip wagon from the side: V-shaped skip on a frame, four wheels, a heap of salt."""
    h, w = size[0] * 2, size[1] * 2
    canvas = np.zeros((h, w, 4), np.uint8)

    def poly(points: list[tuple[float, float]], colour: tuple[int, int, int]) -> None:
        p = (np.array(points) * [w, h] * 16).astype(np.int32)
        cv2.fillPoly(canvas, [p], (*colour, 255), cv2.LINE_AA, 4)

    heap = [
        (0.08 + 0.84 * t, 0.2 - 0.15 * np.sin(np.pi * t) * (1 + 0.05 * np.sin(17 * t))) for t in np.linspace(0, 1, 40)
    ]
    poly([*heap, (0.92, 0.24), (0.08, 0.24)], (206, 200, 192))
    poly([(0.04, 0.2), (0.96, 0.2), (0.8, 0.62), (0.64, 0.72), (0.36, 0.72), (0.2, 0.62)], (118, 76, 54))
    poly([(0.04, 0.2), (0.96, 0.2), (0.945, 0.25), (0.055, 0.25)], (150, 104, 76))
    for x in (0.2, 0.35, 0.5, 0.65, 0.8):
        foot = 0.5 + (x - 0.5) * 0.62
        poly([(x - 0.012, 0.25), (x + 0.012, 0.25), (foot + 0.012, 0.66), (foot - 0.012, 0.66)], (94, 60, 44))
    poly([(0.12, 0.72), (0.88, 0.72), (0.88, 0.79), (0.12, 0.79)], (58, 50, 46))
    poly([(0.3, 0.6), (0.34, 0.6), (0.38, 0.74), (0.26, 0.74)], (66, 58, 52))
    poly([(0.66, 0.6), (0.7, 0.6), (0.74, 0.74), (0.62, 0.74)], (66, 58, 52))
    for x in (0.03, 0.88):
        poly([(x, 0.73), (x + 0.09, 0.73), (x + 0.09, 0.77), (x, 0.77)], (48, 42, 40))
    for x in (0.27, 0.73):
        centre = (int(x * w), int(0.875 * h))
        cv2.circle(canvas, centre, int(0.118 * h), (52, 44, 40, 255), -1, cv2.LINE_AA)
        cv2.circle(canvas, centre, int(0.095 * h), (84, 68, 58, 255), -1, cv2.LINE_AA)
        cv2.circle(canvas, centre, int(0.03 * h), (40, 34, 32, 255), -1, cv2.LINE_AA)
    out = _linear(canvas)
    rust = 1 + 0.22 * clouds(rng, out.shape[:2], 1.3) + 0.1 * clouds(rng, out.shape[:2], 0.7)
    fall = np.linspace(1.15, 0.6, h, dtype=np.float32)[:, None]
    out[..., :3] *= np.clip(rust * fall, 0.3, 1.8)[..., None]
    return _shrink(out, 2)


def wire_line(size: tuple[int, int] = (360, 3072), poles: int = 5) -> Array:
    """A run of poles with two sagging wires, thinner than a pixel in the plate."""
    h, w = size
    canvas = np.zeros((h, w, 4), np.uint8)
    xs = np.linspace(0.04, 0.96, poles) * w
    for x in xs:
        _beam(canvas, (x, h * 0.04), (x, h), 8, (70, 62, 54))
        _beam(canvas, (x - 26, h * 0.1), (x + 26, h * 0.1), 5, (70, 62, 54))
    for offset in (-22, 22):
        for a, b in zip(xs[:-1], xs[1:]):
            t = np.linspace(0, 1, 60)
            y = h * 0.1 + h * 0.16 * 4 * t * (1 - t)
            points = np.stack([a + offset + (b - a) * t, y], axis=-1)
            cv2.polylines(canvas, [(points * 16).astype(np.int32)], False, (48, 46, 46, 255), 1, cv2.LINE_AA, 4)
    return _linear(canvas)
