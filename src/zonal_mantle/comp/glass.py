"""What is done to a layer in its own buffer: exposure across the picture, air that changes across it, the lens."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..match.lens import defocused, moved_over_shutter, sharpened, softened
from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from .finish_plan import Across
from .plan import DeepHaze, Glass

Array = NDArray[np.float32]


def across_picture(rgba: Array, across: Across, scale: float, margin: int, top: int = 0) -> Array:
    """Exposure that grows along a line, smooth between its ends. `top` : the picture's row that is the first, but for
    the margin."""
    (ax, ay), (bx, by) = across.a, across.b
    length = max((bx - ax) ** 2 + (by - ay) ** 2, 1e-6)
    height, width = rgba.shape[:2]
    x = ((np.arange(width, dtype=np.float32) + 0.5 - margin) / scale - ax) * ((bx - ax) / length)
    y = ((np.arange(height, dtype=np.float32) + 0.5 + (top - margin)) / scale - ay) * ((by - ay) / length)
    share = np.clip(x[None, :] + y[:, None], 0, 1)
    gain = np.exp2(np.float32(across.stops) * share * share * (3 - 2 * share)).astype(np.float32)
    return np.concatenate([rgba[..., :3] * gain[..., None], rgba[..., 3:]], axis=2)


@fast_kernel
def _deep_rows(y0, y1, rgba, shares, step, margin, above, light, out):  # type: ignore[no-untyped-def]
    height, width = shares.shape[0], shares.shape[1]
    for y in range(y0, y1):
        gy = min(max((np.float32(y) + np.float32(0.5) - above) / step, np.float32(0)), np.float32(height - 1))
        top = min(int(gy), height - 2)
        v = gy - np.float32(top)
        for x in range(rgba.shape[1]):
            alpha = rgba[y, x, 3]
            out[y, x, 3] = alpha
            gx = min(max((np.float32(x) + np.float32(0.5) - margin) / step, np.float32(0)), np.float32(width - 1))
            left = min(int(gx), width - 2)
            u = gx - np.float32(left)
            for c in range(3):
                high = shares[top, left, c] + u * (shares[top, left + 1, c] - shares[top, left, c])
                low = shares[top + 1, left, c] + u * (shares[top + 1, left + 1, c] - shares[top + 1, left, c])
                keep = high + v * (low - high)
                out[y, x, c] = rgba[y, x, c] * keep + light[c] * alpha * (np.float32(1) - keep)


def through_deep_air(rgba: Array, deep: DeepHaze, margin: int, top: int = 0) -> Array:
    """C = J·T + A·(1 − T) with a T of its own at each pixel. `top` : see `across_picture`."""
    out, light = np.empty_like(rgba), np.array(deep.airlight, np.float32)
    shares = np.exp(-deep.depth).astype(np.float32)
    at = np.float32(deep.step), np.float32(margin), np.float32(margin - top)
    run_bands(_deep_rows, rgba.shape[0], rgba, shares, *at, light, out)
    return out


def through_glass(rgba: Array, glass: Glass, scale: float, top: int = 0) -> Array:
    """Focus, softness, motion blur, sharpness. `top` : see `across_picture`; a whole number of the shutter's steps."""
    rgba = defocused(rgba, glass.radius_px * scale, glass.blades, glass.turn_deg)
    rgba = softened(rgba, glass.softness_px * scale)
    if glass.shutter is not None:
        s = glass.shutter
        above = round(top / s.step)
        rgba = moved_over_shutter(rgba, s.along[above:], s.bend[above:], s.step, s.opens, s.closes)
    return sharpened(rgba, glass.sharpen, glass.sharpen_px * scale, glass.overshoot)
