"""Light of what is behind that spills over the rim of what is before."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel

Array = NDArray[np.float32]
COARSE_PX = 5.0  # standard deviation that a spill is blurred by at least, in the pixels of its own size


@fast_kernel
def _gap_rows(y0, y1, near, behind, out):  # type: ignore[no-untyped-def]
    """What of the background is seen beside what lies before: its light and the share it fills."""
    for y in range(y0, y1):
        for x in range(near.shape[1]):
            gap = np.float32(1) - min(max(near[y, x, 3], np.float32(0)), np.float32(1))
            for c in range(3):
                out[y, x, c] = max(behind[y, x, c], np.float32(0)) * gap
            out[y, x, 3] = gap


@fast_kernel
def _spill_rows(y0, y1, near, glow, shrink, amount, only_brighter, out):  # type: ignore[no-untyped-def]
    least, height, width = np.float32(1e-3), glow.shape[0], glow.shape[1]
    for y in range(y0, y1):
        gy = min(
            max((np.float32(y) + np.float32(0.5)) / shrink - np.float32(0.5), np.float32(0)), np.float32(height - 1)
        )
        top = min(int(gy), height - 2) if height > 1 else 0
        low = min(top + 1, height - 1)
        v = gy - np.float32(top)
        for x in range(near.shape[1]):
            alpha = min(max(near[y, x, 3], np.float32(0)), np.float32(1))
            out[y, x, 3] = near[y, x, 3]
            if alpha <= least:
                for c in range(3):
                    out[y, x, c] = near[y, x, c]
                continue
            gx = (np.float32(x) + np.float32(0.5)) / shrink - np.float32(0.5)
            gx = min(max(gx, np.float32(0)), np.float32(width - 1))
            left = min(int(gx), width - 2) if width > 1 else 0
            right = min(left + 1, width - 1)
            u = gx - np.float32(left)
            w00, w01 = (np.float32(1) - u) * (np.float32(1) - v), u * (np.float32(1) - v)
            w10, w11 = (np.float32(1) - u) * v, u * v
            a, b, p, q = glow[top, left], glow[top, right], glow[low, left], glow[low, right]
            share = w00 * a[3] + w01 * b[3] + w10 * p[3] + w11 * q[3]
            for c in range(3):
                light = w00 * a[c] + w01 * b[c] + w10 * p[c] + w11 * q[c]
                more = light * alpha - share * near[y, x, c]
                if only_brighter and more < np.float32(0):
                    more = np.float32(0)
                out[y, x, c] = near[y, x, c] + amount * more


def spilled(near: Array, behind: Array, sigma_px: float, amount: float, only_brighter: bool = True) -> Array:
    """What lies before, with the light of what is behind on its rim.

    Parameters
    ----------
    near, behind : (h, w, 4) float32, scene-linear, premultiplied; `behind` is finished.
    sigma_px : how far the light reaches, as the standard deviation of a Gaussian.
    amount : of the light that the rim would get if the glass mixed both: 0 none, 1 all of it.
    only_brighter : where what is behind is darker, nothing happens.

    Returns
    -------
    (h, w, 4) float32, premultiplied; alpha as it was. At the frame's rim both go on as they are: it does not darken.
    """
    if amount <= 0 or sigma_px <= 0:
        return near
    height, width = near.shape[:2]
    shrink = max(1, int(sigma_px / COARSE_PX))
    light = np.empty_like(near)
    run_bands(_gap_rows, height, near, behind, light)
    size = (-(-width // shrink), -(-height // shrink))
    if shrink > 1:
        pad = (0, size[1] * shrink - height, 0, size[0] * shrink - width)
        light = cv2.resize(
            cv2.copyMakeBorder(light, *pad, cv2.BORDER_REPLICATE) if any(pad) else light,
            size,
            interpolation=cv2.INTER_AREA,
        )  # type: ignore[assignment]
    glow = np.asarray(cv2.GaussianBlur(light, (0, 0), sigma_px / shrink, borderType=cv2.BORDER_REPLICATE), np.float32)
    out = np.empty_like(near)
    run_bands(_spill_rows, height, near, glow, np.float32(shrink), np.float32(amount), only_brighter, out)
    return out
