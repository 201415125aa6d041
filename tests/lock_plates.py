"""Moving plates made from photographs that ship with scikit-image, with the motion known. Used by tests and benchmarks.

Pixels are coded values as an 8-bit camera gives them: blurred over the shutter, grained, rounded.
"""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass, field
from functools import lru_cache

import cv2
import numba
import numpy as np
from numpy.typing import NDArray
from skimage import data

from zonal_mantle.lock import LockError, read_lock, solve_plane
from zonal_mantle.shot import Lock

Array = NDArray[np.float32]
SHUTTER = 0.5  # of the time from frame to frame


def photograph(name: str, width: int = 2560) -> Array:
    """A grey photograph, coded 0…1, mirrored on until it is `width` wide and as high."""
    picture = getattr(data, name)().astype(np.float32) / 255
    grey = picture if picture.ndim == 2 else picture[..., :3] @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    grow = 1.6 if name in ("gravel", "brick", "grass") else 3.0
    grey = cv2.resize(grey, None, fx=grow, fy=grow, interpolation=cv2.INTER_CUBIC)
    both = np.concatenate([grey, grey[:, ::-1]], axis=1)
    both = np.concatenate([both, both[::-1]], axis=0)
    times = (-(-width // both.shape[0]), -(-width // both.shape[1]))
    return np.ascontiguousarray(np.tile(both, times)[:width, :width], np.float32)


@dataclass
class Plates:
    """Frames, and the truth: reference frame (the first) to each frame."""

    frames: list[Array]
    truth: list[NDArray[np.float64]]
    focal_px: float = 0.0
    rotations: list[NDArray[np.float64]] = field(default_factory=list)

    @property
    def size(self) -> tuple[int, int]:
        return self.frames[0].shape[1], self.frames[0].shape[0]


def finished(linear: Array, grain: float, rng: np.random.Generator) -> Array:
    """Grain and eight bits."""
    noisy = linear + grain * rng.standard_normal(linear.shape).astype(np.float32)
    return np.asarray(np.round(np.clip(noisy, 0, 1) * 255) / 255, np.float32)


def flat_plates(
    name: str, seed: int = 1, size: tuple[int, int] = (1280, 720), count: int = 24, grain: float = 0.015,
    figure: float = 0.0, speed: float = 1.0, shutter: float = SHUTTER, soft_px: float = 0.0,
    only: Container[int] | None = None,
) -> Plates:  # fmt: skip
    """A hand-held camera before a flat photograph: shifts, turns, comes nearer, sees it askew.

    Parameters
    ----------
    figure : width in px of a dark upright shape that walks across the middle.
    soft_px : out of focus by this, at half the contrast.
    speed : 1 moves by some px a frame.
    only : frames that are wanted; the others are left empty.
    """
    rng = np.random.default_rng(seed)
    sheet = photograph(name)
    if soft_px:  # out of focus, and half the contrast
        sheet = cv2.GaussianBlur(0.5 + 0.5 * (sheet - sheet.mean()), (0, 0), soft_px)
    width, height = size
    middle = np.array([[1, 0, width / 2], [0, 1, height / 2], [0, 0, 1]])
    waves = rng.normal(0, 1, (8, 3))
    phases = rng.uniform(0, 2 * np.pi, (8, 3))
    most = np.array([0.015, 0.015, 0.035 * width, 0.015, 0.015, 0.025 * width, 2e-5, 2e-5]) * speed

    def motion(t: float) -> NDArray[np.float64]:
        at = t / 24
        drift = (waves * (np.sin(2 * np.pi * at * np.array([0.4, 0.9, 1.7]) + phases) - np.sin(phases))).sum(axis=1) / 2
        a = most * drift
        turn = np.array([[1 + a[0], a[1] - a[3], a[2]], [a[3] - a[1], 1 + a[0], a[5]], [a[6], a[7], 1]])
        return middle @ turn @ np.linalg.inv(middle)

    lay = np.array([[1, 0, (width - sheet.shape[1]) / 2], [0, 1, (height - sheet.shape[0]) / 2], [0, 0, 1]])
    frames, means = [], []
    for t in range(count):
        total = np.zeros((height, width), np.float32)
        opens, closes = ((motion(t + dt) @ middle[:, 2])[:2] for dt in (-shutter / 2, shutter / 2))
        many = max(5, int(np.hypot(*(closes - opens))) + 2)  # a pixel apart at most, as a shutter leaves no steps
        moments = np.linspace(-shutter / 2, shutter / 2, many) if shutter else [0.0]
        for dt in moments if only is None or t in only else ():
            total += _seen(sheet, motion(t + dt) @ lay, size)
        total /= len(moments)
        if figure:
            x = -figure + (width + 2 * figure) * (t / max(count - 1, 1))
            total = _walker(total, x, figure)
        frames.append(finished(total, grain, rng))
        means.append(np.mean([motion(t + dt) for dt in moments], axis=0))  # a blurred frame shows where it was mostly
    return Plates(frames, [mean @ np.linalg.inv(means[0]) for mean in means])


def _seen(sheet: Array, matrix: NDArray, size: tuple[int, int]) -> Array:
    out = np.empty((size[1], size[0]), np.float32)
    _seen_rows(sheet, np.ascontiguousarray(np.linalg.inv(matrix)), _lobes(), out)
    return out


@numba.njit(cache=True, fastmath=True)
def _seen_rows(sheet, back, lobes, out):  # type: ignore[no-untyped-def]
    across, down = np.empty((1, out.shape[1])), np.empty((1, out.shape[1]))
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            gx, gy = x + 0.5, y + 0.5
            below = back[2, 0] * gx + back[2, 1] * gy + back[2, 2]
            across[0, x] = (back[0, 0] * gx + back[0, 1] * gy + back[0, 2]) / below - 0.5
            down[0, x] = (back[1, 0] * gx + back[1, 1] * gy + back[1, 2]) / below - 0.5
        _sampled_rows(sheet, across, down, lobes, out[y : y + 1])


def sampled(sheet: Array, across: NDArray[np.float64], down: NDArray[np.float64]) -> Array:
    """A sheet at places (h, w), mirrored beyond its rim, by Lanczos's kernel of three lobes: the places of OpenCV's own
    are 1/32 px apart, by which plates would be further off than what is measured on them."""
    out = np.empty(across.shape, np.float32)
    _sampled_rows(sheet, across, down, _lobes(), out)
    return out


@lru_cache(maxsize=1)
def _lobes() -> Array:
    """Lanczos's kernel of three lobes at 1024 places between two pixels, (1024, 6)."""
    t = (np.arange(1024)[:, None] + 0.5) / 1024 - (np.arange(6) - 2)
    weights = np.sinc(t) * np.sinc(t / 3)
    return np.asarray(weights / weights.sum(axis=1, keepdims=True), np.float32)


@numba.njit(cache=True, fastmath=True)
def _sampled_rows(sheet, across, down, lobes, out):  # type: ignore[no-untyped-def]
    wide, high = sheet.shape[1], sheet.shape[0]
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            u, v = across[y, x], down[y, x]
            x0, y0 = int(np.floor(u)), int(np.floor(v))
            wx, wy = lobes[int((u - x0) * 1024)], lobes[int((v - y0) * 1024)]
            value = np.float32(0)
            if 2 <= x0 < wide - 3 and 2 <= y0 < high - 3:
                for j in range(6):
                    row, line = sheet[y0 - 2 + j], np.float32(0)
                    for i in range(6):
                        line += wx[i] * row[x0 - 2 + i]
                    value += wy[j] * line
                out[y, x] = value
                continue
            for j in range(6):
                row = y0 - 2 + j
                row = -row - 1 if row < 0 else 2 * high - 1 - row if row >= high else row
                row = min(max(row, 0), high - 1)
                line = np.float32(0)
                for i in range(6):
                    column = x0 - 2 + i
                    column = -column - 1 if column < 0 else 2 * wide - 1 - column if column >= wide else column
                    line += wx[i] * sheet[row, min(max(column, 0), wide - 1)]
                value += wy[j] * line
            out[y, x] = value


def burnt_in(frame: Array, number: int) -> Array:
    """A frame of 640 × 360 with words in a box, whose number changes."""
    out = (frame * 255).astype(np.uint8)
    cv2.rectangle(out, (190, 310), (450, 345), 12, -1)
    cv2.putText(out, f"SLT 0140 {number:04d}", (200, 336), cv2.FONT_HERSHEY_SIMPLEX, 0.8, 230, 2, cv2.LINE_AA)
    return out.astype(np.float32) / 255


def _walker(picture: Array, x: float, wide: float) -> Array:
    h, w = picture.shape
    gx, gy = np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5)
    sway = 0.15 * wide * np.sin(gy / h * 9)
    inside = np.clip(wide / 2 - np.abs(gx - x - sway) + 0.5, 0, 1).astype(np.float32)
    inside *= np.clip(gy - 0.12 * h, 0, 1)
    return picture * (1 - inside) + 0.06 * inside


def turning_plates(
    names: tuple[str, ...] = ("gravel", "coffee", "brick"), seed: int = 1, size: tuple[int, int] = (1280, 720),
    count: int = 48, pan_deg: float = 34.0, view_deg: float = 38.0, grain: float = 0.015, figure: float = 0.0,
    shutter: float = SHUTTER, soft_px: float = 0.0,
) -> Plates:  # fmt: skip
    """A camera that pans by `pan_deg` with a hand-held sway, far from everything.

    The truth is K R K⁻¹ for directions at infinity (Hartley & Zisserman 2004, section 8.4.2).
    """
    rng = np.random.default_rng(seed)
    width, height = size
    focal = width / 2 / np.tan(np.radians(view_deg / 2))
    per_rad = focal * 1.25  # px of the sheet to the radian
    strips = [photograph(name, 1536) for name in names]
    sheet = np.concatenate(strips, axis=1)
    sheet = np.concatenate([sheet, sheet[:, ::-1]], axis=1)
    if soft_px:
        sheet = cv2.GaussianBlur(sheet, (0, 0), soft_px * 1.25)
    phases = rng.uniform(0, 2 * np.pi, (3, 2))

    def rotation(t: float) -> NDArray[np.float64]:
        at = t / max(count - 1, 1)
        ease = at - np.sin(2 * np.pi * at) / (2 * np.pi) * 0.5
        sway = np.radians(0.5) * np.sin(2 * np.pi * t / 24 * np.array([[0.7, 1.6]]) + phases).sum(axis=1)
        sway -= np.radians(0.5) * np.sin(phases).sum(axis=1)
        angles = np.array([sway[0], np.radians(pan_deg) * ease + sway[1] * 0.3, sway[2] * 0.5])
        return cv2.Rodrigues(angles)[0]

    k = np.array([[focal, 0, width / 2], [0, focal, height / 2], [0, 0, 1]])
    gx, gy = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    rays = np.stack([(gx - width / 2) / focal, (gy - height / 2) / focal, np.ones_like(gx)], axis=-1)
    frames, means = [], []
    for t in range(count):
        total = np.zeros((height, width), np.float32)
        ends = [rotation(t + dt) @ np.array([0, 0, 1.0]) for dt in (-shutter / 2, shutter / 2)]
        many = max(7, int(focal * np.linalg.norm(ends[1] - ends[0]) / 2) + 2)  # two pixels apart at most
        moments = np.linspace(-shutter / 2, shutter / 2, many) if shutter else [0.0]
        for dt in moments:
            world = rays @ rotation(t + dt)  # the camera's turn undone
            yaw = np.arctan2(world[..., 0], world[..., 2])
            pitch = np.arctan2(world[..., 1], np.hypot(world[..., 0], world[..., 2]))
            total += sampled(sheet, sheet.shape[1] * 0.3 - yaw * per_rad, sheet.shape[0] / 2 + pitch * per_rad)
        total /= len(moments)
        if figure:
            total = _walker(total, width * (0.15 + 0.7 * t / max(count - 1, 1)), figure)
        frames.append(finished(total, grain, rng))
        u, _, vt = np.linalg.svd(np.mean([rotation(t + dt) for dt in moments], axis=0))
        means.append(u @ vt)  # a blurred frame shows where it was mostly
    rotations = [mean @ means[0].T for mean in means]
    return Plates(frames, [k @ turn @ np.linalg.inv(k) for turn in rotations], focal, rotations)


def box_mask(size: tuple[int, int], box: tuple[float, float, float, float]) -> Array:
    """1 within a box, 0 outside."""
    out = np.zeros((size[1], size[0]), np.float32)
    x0, y0, x1, y1 = (round(v) for v in box)
    out[y0:y1, x0:x1] = 1
    return out


def corner_errors(found: NDArray, truth: NDArray, box: tuple[float, float, float, float]) -> float:
    """Mean distance of a box's corners from where they belong, px."""
    x0, y0, x1, y1 = box
    corners = np.array([[x0, y0, 1], [x1, y0, 1], [x1, y1, 1], [x0, y1, 1.0]])
    a, b = corners @ np.asarray(found).T, corners @ np.asarray(truth).T
    return float(np.linalg.norm(a[:, :2] / a[:, 2:] - b[:, :2] / b[:, 2:], axis=1).mean())


def least_error(clean: Array, box: tuple[int, int, int, int], grain: float) -> float:
    """What the mean corner error of a pairwise perspective alignment cannot fall below, rms px.

    The Cramér–Rao bound (Kay 1993, chapter 3) of the eight numbers, gain and bias, from the slopes of the clean
    frame and independent grain in both frames.
    """
    x0, y0, x1, y1 = box
    unit = (x1 - x0) / 2
    gx, gy = np.meshgrid(np.arange(x0, x1) + 0.5, np.arange(y0, y1) + 0.5)
    p, q = (gx - (x0 + x1) / 2) / unit, (gy - (y0 + y1) / 2) / unit
    down, across = (slope[y0:y1, x0:x1] * unit for slope in np.gradient(clean.astype(float)))
    parts = [across * p, across * q, across, down * p, down * q, down]
    parts += [-(across * p * p + down * p * q), -(across * p * q + down * q * q), clean[y0:y1, x0:x1], np.ones_like(p)]
    slopes = np.stack(parts, axis=-1).reshape(-1, 10)
    variance = grain**2 + 1 / (12 * 255**2)
    spread = np.linalg.cholesky(2 * variance * np.linalg.pinv(slopes.T @ slopes)[:8, :8])
    tried = np.random.default_rng(0).standard_normal((4000, 8)) @ spread.T
    high = (y1 - y0) / (x1 - x0)
    far = []
    for a, b in ((-1, -high), (1, -high), (1, high), (-1, high)):
        jac = np.array([[a, b, 1, 0, 0, 0, -a * a, -a * b], [0, 0, 0, a, b, 1, -a * b, -b * b]]) * unit
        far.append(np.linalg.norm(tried @ jac.T, axis=1))
    return float(np.sqrt((np.mean(far, axis=0) ** 2).mean()))


HOPELESS = ("sky", "covered", "cut", "frozen", "swarm")
HONEST_SIZE, HONEST_BOX = (400, 226), (110, 60, 290, 170)


def honest_shot(kind: str, seed: int) -> Plates:
    """A short shot for judging honesty: ordinary ones, and ones on which nothing can be held (HOPELESS)."""
    rng = np.random.default_rng(seed)
    name = ("gravel", "coffee", "brick", "grass", "chelsea")[seed % 5]
    plates = flat_plates(
        name, seed, HONEST_SIZE, count=10, speed=0.6, grain=0.01 + 0.01 * rng.random(),
        figure=50.0 if kind == "figure" else 0.0,
    )  # fmt: skip
    frames = plates.frames
    if kind == "sky":
        tone = 0.75 + 0.1 * np.linspace(0, 1, HONEST_SIZE[1], dtype=np.float32)[:, None]
        frames[:] = [finished(np.broadcast_to(tone, frames[0].shape), 0.015, rng) for _ in frames]
    elif kind == "covered":
        frames[5:] = [finished(np.full_like(frame, 0.08), 0.015, rng) for frame in frames[5:]]
    elif kind == "cut":
        other = flat_plates("astronaut" if name != "astronaut" else "coffee", seed + 1, HONEST_SIZE, count=5)
        frames[5:] = other.frames
    elif kind == "frozen":  # the picture stops although the camera's truth goes on
        frames[5:] = [frames[4]] * 5
        plates.truth[5:] = [plates.truth[4]] * 5
    elif kind == "swarm":  # every frame another noise
        frames[:] = [
            finished(cv2.GaussianBlur(rng.random(frames[0].shape, np.float32), (0, 0), 1.5), 0.01, rng) for _ in frames
        ]
    elif kind == "flicker":
        frames[:] = [np.clip(frame * (0.7 + 0.5 * rng.random()) + 0.05, 0, 1).astype(np.float32) for frame in frames]
    elif kind == "half":  # a second thing, moving otherwise, over nearly half of the field
        for k, frame in enumerate(frames):
            frame[60:170, 205 + 3 * k : 300 + 3 * k] = plates.frames[0][20:130, 20:115]
    return plates


HONEST_KINDS = ("plain", "figure", "flicker", "half", "sky", "covered", "cut", "frozen", "swarm", "plain")
ACCEPTED_PX = 0.3  # residual under which the stage shows no mark of trouble


def judged(plates: Plates) -> tuple[bool, float]:
    """Whether a plane lock on a shot reports itself as good, and how far it is off at its worst."""
    frames = range(len(plates.frames))
    lock = Lock(id="a", name="A", kind="plane", reference_frame=0)
    try:
        mask = box_mask(HONEST_SIZE, HONEST_BOX)
        solved = solve_plane(lock, lambda f: plates.frames[f], mask, lambda f: None, frames)
    except LockError:
        return False, 0.0
    reading = read_lock(solved, frames)
    good = reading is not None and reading.solved == reading.wanted and reading.worst_px <= ACCEPTED_PX
    off = max(
        corner_errors(np.array(e.homography).reshape(3, 3), plates.truth[e.frame], HONEST_BOX) for e in solved.solved
    )
    return good, off
