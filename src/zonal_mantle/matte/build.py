"""A zone's whole matte: pull, then keep shapes, then drop shapes."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..shot.shapes import Shape, ShapeKey
from ..shot.zone import Matte
from .luma import luma
from .shapes import union

Array = NDArray[np.float32]


def build_matte(pixels: Array, matte: Matte, frame: float, scale: float = 1.0) -> Array:
    """The alpha of what stays.

    Parameters
    ----------
    pixels : (h, w, 3) float32, the scene-linear plate at `scale`.
    matte : without a pull the matte starts empty when it has keep shapes, else solid.

    Returns
    -------
    (h, w) float32.
    """
    height, width = pixels.shape[:2]
    standing = tuple(_standing(shape, frame) for shape in matte.shapes if shape.on)
    if not standing:
        return luma(pixels, matte.pull, frame) if matte.pull else np.ones((height, width), np.float32)
    keep, drop = _covers(standing, (width, height), scale)
    if matte.pull is not None:
        return luma(pixels, matte.pull, frame, (keep, drop))
    base = keep if any(shape.mode == "keep" for shape in standing) else np.float32(1.0)
    return np.asarray(base * (1 - drop), np.float32)


def _standing(shape: Shape, frame: float) -> Shape:
    """A shape as it stands on a frame, without its name: equal wherever it looks equal."""
    return shape.but(id="", name="", keys=(ShapeKey(frame=0, points=shape.points_at(frame)),))


@lru_cache(maxsize=6)
def _covers(shapes: tuple[Shape, ...], size: tuple[int, int], scale: float) -> tuple[Array, Array]:
    """What all keep shapes cover together, and all drop shapes."""
    keep, drop = (union([shape for shape in shapes if shape.mode == mode], 0, size, scale) for mode in ("keep", "drop"))
    return keep, drop
