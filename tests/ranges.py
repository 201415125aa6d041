"""A camera that turns and slides before sheets that stand one behind another, each a photograph with a skyline of its
own, below a plain sky; with the truth known. Used by tests and benchmarks of what rides far from its lock."""

from __future__ import annotations

from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from lock_plates import finished, photograph, sampled
from walls import Walked

Array = NDArray[np.float32]
Rng = np.random.Generator


@dataclass(frozen=True)
class Sheet:
    """One of them: how far it stands, m; how high its skyline is on the middle frame, in parts of the frame from its
    top, with how much it goes up and down; and which part of the frame it fills, across."""

    away_m: float
    top: float
    rough: float = 0.04
    across: tuple[float, float] = (-3.0, 4.0)
    name: str = "gravel"


RANGE = Sheet(3000.0, 0.35, 0.06, name="coffee")
HILLS = Sheet(150.0, 0.5, 0.04, name="grass")
BANK = Sheet(20.0, 0.68, 0.05, name="gravel")


@dataclass
class Ranges(Walked):
    """`skies`: what of each frame is sky, (h, w), 0…1."""

    skies: list[Array] = field(default_factory=list)

    def far(self, frame: int, start: int) -> NDArray[np.float64]:
        """How what is at infinity moved from one frame to another, (3, 3)."""
        height, width = self.frames[0].shape
        k = np.array([[self.focal, 0, width / 2], [0, self.focal, height / 2], [0, 0, 1.0]])
        return np.asarray(k @ self.turns[frame] @ self.turns[start].T @ np.linalg.inv(k))


def sliding_plates(
    sheets: tuple[Sheet, ...] = (RANGE, HILLS, BANK), size: tuple[int, int] = (640, 360), count: int = 24,
    pan_deg: float = 6.0, slide_m: float = 1.0, view_deg: float = 45.0, grain: float = 0.01, seed: int = 1,
    forward_m: float = 0.0,
) -> Ranges:  # fmt: skip
    """The camera pans by `pan_deg`, slides to its right and goes ahead, all with a hand's sway; the middle frame is the
    one that sheets are described on. The sky is paler toward the ground."""
    rng, (width, height) = np.random.default_rng(seed), size
    focal = width / 2 / np.tan(np.radians(view_deg) / 2)
    turns, places = [], []
    for k in range(count):
        s = (k - count // 2) / (count - 1)
        sway = np.radians([0.3 * np.sin(9 * s), pan_deg * s, 0.2 * np.sin(7 * s)])
        turns.append(cv2.Rodrigues(sway)[0])
        places.append([slide_m * s, 0.02 * slide_m * np.sin(8 * s), forward_m * s])
    drawn = [(sheet, *_painted(sheet, size, focal, rng)) for sheet in sorted(sheets, key=lambda each: -each.away_m)]
    gx, gy = np.meshgrid((np.arange(width) + 0.5 - width / 2) / focal, (np.arange(height) + 0.5 - height / 2) / focal)
    rays = np.stack([gx, gy, np.ones_like(gx)], axis=-1)
    frames, skies = [], []
    for turn, place in zip(turns, places):
        world = rays @ turn
        picture = np.float32(0.75 + 0.2 * np.clip(gy * focal / height + 0.5, 0, 1))
        sky = np.ones((height, width), np.float32)
        for sheet, paint, cover, unit, corner in drawn:
            ahead = (sheet.away_m - place[2]) / world[..., 2]
            x = (place[0] + world[..., 0] * ahead - corner[0]) * unit - 0.5
            y = (place[1] + world[..., 1] * ahead - corner[1]) * unit - 0.5
            inside = (x > 3) & (x < paint.shape[1] - 4) & (y < paint.shape[0] - 4)
            share = np.float32(np.clip(np.where(inside, sampled(cover, x, np.maximum(y, 3)), 0), 0, 1))
            picture = picture + share * (sampled(paint, x, np.maximum(y, 3)) - picture)
            sky *= 1 - share
        frames.append(finished(picture, grain, rng))
        skies.append(sky)
    return Ranges(frames, float(focal), np.array(turns), np.array(places), skies)


def _painted(sheet: Sheet, size: tuple[int, int], focal: float, rng: Rng) -> tuple[Array, Array, float, Array]:
    """A sheet's picture, what of it is there, its pixels a metre and where its upper left corner is, m."""
    width, height = size
    unit = 1.2 * focal / sheet.away_m
    low, high = (each * width - width / 2 for each in (max(sheet.across[0], -1.5), min(sheet.across[1], 2.5)))
    above, below = (sheet.top - 4 * sheet.rough) * height - height / 2 - 8, 1.5 * height
    wide, tall = round(1.2 * (high - low)), round(1.2 * (below - above))
    paint = np.float32(0.08 + 0.55 * photograph(sheet.name, max(wide, tall))[:tall, :wide])
    steps = cv2.GaussianBlur(rng.standard_normal((1, wide)).astype(np.float32), (0, 0), 40) * 8
    steps += cv2.GaussianBlur(rng.standard_normal((1, wide)).astype(np.float32), (0, 0), 8) * 1.5
    top = 1.2 * height * (4 * sheet.rough + sheet.rough * np.clip(steps[0], -2, 2)) + 8
    cover = np.float32(np.clip(np.arange(tall)[:, None] - top + 0.5, 0, 1))
    return paint, cover, float(unit), np.float32([low / focal * sheet.away_m, above / focal * sheet.away_m])
