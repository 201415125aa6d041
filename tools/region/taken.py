"""Photographs with where their sky is: 160 of four packages (`fetch.py` lays them down), 72 of them with a sky.

The labels, `photographs.npz`, are mattes of our own that were looked at one by one and mended by hand where they were
wrong; 0 is ground, 1 sky, 2 was not told. They are as wide as 240 px: what is finer is not told by them.
"""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray
from pictures import filmed as taken_anew

Array = NDArray[np.float32]

LABELS = Path(__file__).with_name("photographs.npz")
SHAPES = (0.5625, 0.5625, 0.42, 0.625, 0.75, 1.0)  # height to width of what is cut out
WIDTHS = (640, 800, 960)
RIM = 13  # pixels across the sky's rim that are not judged


class Taken(NamedTuple):
    """A photograph (h, w, 3), coded, its share of sky (h, w), and where that is told (h, w), bool."""

    picture: Array
    sky: Array
    told: NDArray[np.bool_]

    def judged(self) -> NDArray[np.bool_]:
        """Where it is told and not at a rim."""
        rim = ((self.sky > 0.03) & (self.sky < 0.97)).astype(np.uint8)
        return np.asarray(self.told & (cv2.dilate(rim, np.ones((RIM, RIM), np.uint8)) == 0))


def names() -> list[str]:
    """Of all photographs, in the order of the labels."""
    with np.load(LABELS) as labels:
        return list(labels.files)


def photograph(stock: Path, name: str) -> Taken:
    picture = cv2.imread(str(stock / "taken" / f"{name}.png"))
    if picture is None:
        raise FileNotFoundError(f"{name} is not in {stock}: run fetch.py.")
    with np.load(LABELS) as labels:
        label, size = labels[name], picture.shape[1::-1]
    sky = cv2.resize((label == 1).astype(np.float32), size, interpolation=cv2.INTER_LINEAR)
    told = cv2.resize((label < 2).astype(np.uint8), size, interpolation=cv2.INTER_NEAREST) > 0
    return Taken(np.float32(picture[..., ::-1]) / 255, np.asarray(sky, np.float32), told)


def filmed(taken: Taken, rng: np.random.Generator) -> Taken:
    """A part of a photograph, as another camera would have taken it, see `pictures`."""
    height, width = taken.sky.shape
    across, down = width, height
    for _ in range(20):
        share, shape = rng.uniform(0.5, 1) ** 0.7, rng.choice(SHAPES)
        if width * share * shape <= height:
            across, down = int(width * share), int(width * share * shape)
            break
    x, y = int(rng.integers(width - across + 1)), int(rng.integers(height - down + 1))
    wide = int(rng.choice(WIDTHS))
    size = wide, round(wide * down / across)
    turn = -1 if rng.random() < 0.5 else 1
    picture, sky, told = (np.ascontiguousarray(each[y : y + down, x : x + across][:, ::turn]) for each in taken)
    return Taken(
        taken_anew(cv2.resize(picture, size, interpolation=cv2.INTER_AREA), rng),
        np.asarray(cv2.resize(sky, size, interpolation=cv2.INTER_AREA), np.float32),
        cv2.resize(told.astype(np.uint8), size, interpolation=cv2.INTER_NEAREST) > 0,
    )
