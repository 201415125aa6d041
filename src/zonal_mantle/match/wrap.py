"""Light of what is behind that spills over the rim of what is before."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]
COARSE_PX = 5.0  # standard deviation that a spill is blurred by at least, in the pixels of its own size


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
    alpha = np.clip(near[..., 3], 0, 1)
    size = (-(-width // shrink), -(-height // shrink))
    gap = 1 - alpha
    light = np.dstack([np.clip(behind[..., :3], 0, None) * gap[..., None], gap])
    small = cv2.resize(light, size, interpolation=cv2.INTER_AREA) if shrink > 1 else light
    spread = cv2.GaussianBlur(small, (0, 0), sigma_px / shrink, borderType=cv2.BORDER_REPLICATE)
    glow = cv2.resize(spread, (width, height), interpolation=cv2.INTER_LINEAR) if shrink > 1 else spread
    share = glow[..., 3:] * alpha[..., None]
    more = glow[..., :3] * alpha[..., None] - share * (near[..., :3] / np.maximum(alpha, 1e-3)[..., None])
    if only_brighter:
        more = np.maximum(more, 0)
    out = near.copy()
    out[..., :3] += np.float32(amount) * more
    return out
