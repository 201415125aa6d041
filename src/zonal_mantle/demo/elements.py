"""Things shot by themselves to be put into the saltworks: a signal flag before a blue screen, embers on black."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media import colour
from ..render.frames import VideoWriter

Array = NDArray[np.float32]
FLAG_SIZE, FLAG_RATE = (512, 384), Fraction(25)
EMBER_SIZE, EMBER_RATE = (512, 384), Fraction(30)
SCREEN = (0.035, 0.075, 0.42)  # scene-linear, where it is lit best
RED, WHITE = (0.42, 0.035, 0.03), (0.62, 0.6, 0.55)
FINER = 2  # samples across a pixel
SPILL = 0.06  # of the screen's light on cloth that is turned away


def flag_frame(index: int, seed: int = 7, grain: float = 0.006) -> tuple[Array, Array]:
    """A quartered signal flag in the wind.

    Returns
    -------
    (h, w, 3) float32 the shot, scene-linear, and (h, w) float32 its true alpha.
    """
    width, height = (FINER * extent for extent in FLAG_SIZE)
    x, y = np.meshgrid(*((np.arange(n, dtype=np.float32) + np.float32(0.5)) / n for n in (width, height)))
    time = index / float(FLAG_RATE)
    along = np.clip((x - 0.16) / 0.62, 0, 1)
    phase = 2 * np.pi * (1.55 * along - 1.7 * time) + 0.4 * np.sin(5 * y + seed)
    wave, slope = 0.055 * along * np.sin(phase), along * np.cos(phase)
    u = (x - 0.16) / (0.62 - 0.02 * np.sin(2 * np.pi * 0.7 * time))
    v = (y - 0.22 - wave) / 0.52
    inside = ((u > 0) & (u < 1) & (v > 0) & (v < 1)).astype(np.float32)
    quarter = ((u > 0.5) ^ (v > 0.5))[..., None]
    light = (0.8 + 0.34 * slope)[..., None]
    cloth = np.where(quarter, np.float32(RED), np.float32(WHITE)) * light
    cloth = cloth + np.float32(SCREEN) * np.float32(SPILL) * (1.2 - light)
    lit = 1 - 0.28 * ((x - 0.45) ** 2 + (y - 0.4) ** 2)[..., None] / 0.4
    picture = cloth * inside[..., None] + np.float32(SCREEN) * lit * (1 - inside[..., None])
    shot = cv2.resize(picture.astype(np.float32), FLAG_SIZE, interpolation=cv2.INTER_AREA)
    alpha = cv2.resize(inside, FLAG_SIZE, interpolation=cv2.INTER_AREA)
    shot, alpha = (np.asarray(cv2.GaussianBlur(part, (0, 0), 0.6), np.float32) for part in (shot, alpha))
    noise = np.random.default_rng((seed, index)).normal(0, grain, shot.shape).astype(np.float32)
    return np.maximum(shot + noise * np.sqrt(np.maximum(shot, 0.02)), 0), alpha


def ember_frame(index: int, seed: int = 7, count: int = 90) -> Array:
    """Embers that rise, flicker and die. (h, w, 3) float32, scene-linear, black where there are none."""
    width, height = EMBER_SIZE
    maker = np.random.default_rng(seed)
    born, lasts = maker.uniform(-2.5, 4, count), maker.uniform(1.2, 2.8, count)
    start, drift = maker.uniform(0.2, 0.8, count), maker.normal(0, 0.05, count)
    rise, heat, size = maker.uniform(0.22, 0.5, count), maker.uniform(0.6, 2.6, count), maker.uniform(0.6, 1.5, count)
    picture = np.zeros((height, width, 3), np.float32)
    time = index / float(EMBER_RATE)
    for k in range(count):
        age = (time - born[k]) / lasts[k]
        if not 0 <= age <= 1:
            continue
        glow = heat[k] * (1 - age) ** 1.5 * (0.75 + 0.25 * np.sin(25 * time + 9 * k))
        tint = np.array([1.0, 0.38 * (1 - 0.6 * age), 0.07 * (1 - age)], np.float32)
        for part in np.linspace(0, 0.5, 4):  # over half the time from frame to frame
            at = age * lasts[k] + part / float(EMBER_RATE)
            x = (start[k] + drift[k] * at + 0.03 * np.sin(3 * at + k)) * width
            y = (1.02 - rise[k] * at) * height
            _dot(picture, x, y, size[k], glow / 4 * tint)
    return picture


def _dot(picture: Array, x: float, y: float, radius: float, light: Array) -> None:
    """Adds a soft dot of light."""
    reach = int(np.ceil(4 * radius))
    x0, y0 = int(x) - reach, int(y) - reach
    xs, ys = np.arange(x0, x0 + 2 * reach + 1), np.arange(y0, y0 + 2 * reach + 1)
    xs, ys = xs[(xs >= 0) & (xs < picture.shape[1])], ys[(ys >= 0) & (ys < picture.shape[0])]
    if len(xs) and len(ys):
        away = (xs + 0.5 - x)[None, :] ** 2 + (ys + 0.5 - y)[:, None] ** 2
        picture[ys[0] : ys[-1] + 1, xs[0] : xs[-1] + 1] += np.exp(-away / (2 * radius**2))[..., None] * light


def write_elements(folder: Path, seconds: float = 2.0, seed: int = 7) -> tuple[Path, Path]:
    """Writes both clips as H.264 at rates of their own, at least as long, and returns their files.

    Raises
    ------
    MediaError : a file cannot be written.
    """
    folder.mkdir(parents=True, exist_ok=True)
    flag, embers = folder / "signal_flag.mp4", folder / "embers.mp4"
    with VideoWriter(flag, "h264", FLAG_RATE, quality=12) as writer:
        for index in range(int(np.ceil(seconds * FLAG_RATE)) + 1):
            writer.write(colour.from_linear(flag_frame(index, seed)[0], colour.CAMERA))
    with VideoWriter(embers, "h264", EMBER_RATE, quality=12) as writer:
        for index in range(int(np.ceil(seconds * EMBER_RATE)) + 1):
            writer.write(colour.from_linear(ember_frame(index, seed), colour.CAMERA))
    return flag, embers
