"""A camera that walks before a wall with cards in front of it, all of photographs, with the truth known. Used by tests
and benchmarks of camera locks."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from lock_plates import finished, photograph, sampled

Array = NDArray[np.float32]


@dataclass
class Walked:
    """Frames, the camera's focal length in px, and its turn and place on each, the first being the identity."""

    frames: list[Array]
    focal: float
    turns: NDArray[np.float64]
    places: NDArray[np.float64]

    def seen(self, points: NDArray[np.float64], frame: int) -> NDArray[np.float64]:
        """Where (n, 3) points in metres are seen on a frame, px."""
        height, width = self.frames[0].shape
        local = (points - self.places[frame]) @ self.turns[frame].T
        return np.asarray(local[:, :2] / local[:, 2:] * self.focal + np.array([width, height]) / 2)


def walked_plates(
    names: tuple[str, str] = ("coffee", "astronaut"), size: tuple[int, int] = (480, 270), count: int = 40,
    pan_deg: float = 24.0, away: float = 1.6, returns: bool = True, grain: float = 0.01, seed: int = 1, cards: int = 8,
) -> Walked:  # fmt: skip
    """A wall 30 m away and some cards 7 to 16 m away; the camera pans and walks, and comes back if it `returns`."""
    rng, (width, height) = np.random.default_rng(seed), size
    focal = 0.9 * width
    turns, places = [], []
    for k in range(count):
        s = k / (count - 1)
        share = 0.5 - 0.5 * np.cos(2 * np.pi * s) if returns else s
        sway = np.radians([0.4 * np.sin(5 * s), pan_deg * share, 0.3 * np.sin(3 * s)])
        turns.append(cv2.Rodrigues(sway)[0])
        places.append([away * share, 0.1 * np.sin(6 * s), 0.3 * away * np.sin(np.pi * s) ** 2])
    turns_, places_ = np.array(turns), np.array(places)
    sheets = [_sheet(names[0], 2400, 30.0, (-40.0, -16.0, 60.0, 16.0), focal)]
    for _ in range(cards):
        z, x, y = rng.uniform(7, 16), rng.uniform(-0.5, 1.3), rng.uniform(-0.25, 0.25)
        sheets.append(_sheet(names[1], 900, z, (x * z - 1.0, y * z - 0.8, x * z + 1.0, y * z + 0.8), focal))
    gx, gy = np.meshgrid((np.arange(width) + 0.5 - width / 2) / focal, (np.arange(height) + 0.5 - height / 2) / focal)
    rays = np.stack([gx, gy, np.ones_like(gx)], axis=-1)
    frames = []
    for turn, place in zip(turns_, places_):
        world, picture = rays @ turn, np.zeros((height, width), np.float32)
        for sheet, z, (x0, y0, x1, y1) in sorted(sheets, key=lambda each: -each[1]):
            at = place[:2] + world[..., :2] * ((z - place[2]) / world[..., 2:])
            unit = sheet.shape[1] / (x1 - x0)
            inside = (at[..., 0] > x0) & (at[..., 0] < x1) & (at[..., 1] > y0) & (at[..., 1] < y1)
            drawn = sampled(sheet, (at[..., 0] - x0) * unit - 0.5, (at[..., 1] - y0) * unit - 0.5)
            picture = np.where(inside, drawn, picture)
        frames.append(finished(picture, grain, rng))
    return Walked(frames, focal, turns_, places_)


Sheet = tuple[Array, float, tuple[float, float, float, float]]


def _sheet(name: str, wide: int, z: float, box: tuple[float, float, float, float], focal: float) -> Sheet:
    """A photograph at a distance, with hardly more pixels than a frame sees of it, so that none are skipped."""
    picture = photograph(name, wide)
    side = round(1.4 * focal / z * (box[2] - box[0]))
    return np.float32(0.1 + 0.8 * cv2.resize(picture, (side, side), interpolation=cv2.INTER_AREA)), z, box
