"""Whether a picture's alpha is what its file claims."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

LEAST = 200  # half-transparent pixels; fewer tell nothing
ROUNDING = 2.5 / 255


def alpha_seems(pixels: NDArray, claimed: str) -> Literal["straight", "premultiplied"] | None:
    """What the values say of an alpha where that is not what is claimed; None where nothing speaks against it.

    Premultiplied colour of at most 1 is nowhere above its alpha: many half-transparent pixels that are say that it is
    straight. Straight colour does not know of its alpha: where half-transparent pixels all stay below it, and colour
    falls with it to nothing, it is premultiplied (Porter & Duff 1984, section 3).

    Parameters
    ----------
    pixels : (h, w, 4) float32 as they stand in the file.
    claimed : "straight" or "premultiplied".
    """
    alpha = pixels[..., 3]
    half = (alpha > 0.04) & (alpha < 0.9)
    if int(half.sum()) < LEAST:
        return None
    most, own = pixels[..., :3][half].max(axis=1), alpha[half]
    solid = pixels[..., :3][alpha > 0.98]
    if claimed == "premultiplied":
        above = most > own + ROUNDING
        if len(solid) and float(solid.max()) > 1.05:
            return None  # light beyond 1: colour above its alpha says nothing
        return "straight" if float(above.mean()) > 0.2 else None
    if not len(solid) or float(np.median(solid.max(axis=1))) < 0.15:
        return None  # dark colours lie below any alpha
    if float((most > own + ROUNDING).mean()) > 0.002:
        return None
    low, high = most[own < 0.3], most[own > 0.6]
    if len(low) < LEAST // 4 or len(high) < LEAST // 4:
        return None
    return "premultiplied" if float(np.median(low)) < 0.55 * float(np.median(high)) else None
