"""What is done to a layer in its own buffer: exposure across the picture, air that changes across it, the lens."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..match.lens import defocused, moved_over_shutter, sharpened, softened
from .plan import Across, DeepHaze, Glass

Array = NDArray[np.float32]


def across_picture(rgba: Array, across: Across, scale: float, margin: int) -> Array:
    """Exposure that grows along a line, smooth between its ends."""
    (ax, ay), (bx, by) = across.a, across.b
    length = max((bx - ax) ** 2 + (by - ay) ** 2, 1e-6)
    height, width = rgba.shape[:2]
    x = ((np.arange(width, dtype=np.float32) + 0.5 - margin) / scale - ax) * ((bx - ax) / length)
    y = ((np.arange(height, dtype=np.float32) + 0.5 - margin) / scale - ay) * ((by - ay) / length)
    share = np.clip(x[None, :] + y[:, None], 0, 1)
    gain = np.exp2(np.float32(across.stops) * share * share * (3 - 2 * share)).astype(np.float32)
    return np.concatenate([rgba[..., :3] * gain[..., None], rgba[..., 3:]], axis=2)


def through_deep_air(rgba: Array, deep: DeepHaze, margin: int) -> Array:
    """C = J·T + A·(1 − T) with a T of its own at each pixel."""
    height, width = rgba.shape[:2]
    shares = np.exp(-deep.depth).astype(np.float32)
    x, y = (((np.arange(n) + 0.5 - margin) / deep.step).astype(np.float32) for n in (width, height))
    grid_x, grid_y = np.meshgrid(x, y)
    keep = cv2.remap(shares, grid_x, grid_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    out = np.empty_like(rgba)
    out[..., :3] = rgba[..., :3] * keep + np.array(deep.airlight, np.float32) * rgba[..., 3:] * (1 - keep)
    out[..., 3] = rgba[..., 3]
    return out


def through_glass(rgba: Array, glass: Glass, scale: float) -> Array:
    """Focus, softness, motion blur, sharpness."""
    rgba = defocused(rgba, glass.radius_px * scale, glass.blades, glass.turn_deg)
    rgba = softened(rgba, glass.softness_px * scale)
    if glass.shutter is not None:
        s = glass.shutter
        rgba = moved_over_shutter(rgba, s.along, s.bend, s.step, s.opens, s.closes)
    return sharpened(rgba, glass.sharpen, glass.sharpen_px * scale, glass.overshoot)
