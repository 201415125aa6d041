"""The one-channel feed that a lock looks at."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.curves import coded

Array = NDArray[np.float32]


def lock_feed(pixels: Array, channel: str = "luma", filter_px: float = 0.0) -> Array:
    """One channel of the coded feed, blurred or sharpened.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    channel : luma, red, green, blue or saturation.
    filter_px : standard deviation of a blur when above 0; of the detail that is doubled when below.

    Returns
    -------
    (h, w) float32, about 0…1.
    """
    picture = coded(np.clip(np.nan_to_num(pixels[..., :3], nan=0.0), 0, 16))  # what is not a number is black
    if channel == "luma":
        feed = picture @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    elif channel == "saturation":
        high = picture.max(axis=2)
        feed = (high - picture.min(axis=2)) / np.maximum(high, 1e-3)
    else:
        feed = picture[..., ("red", "green", "blue").index(channel)]
    feed = np.ascontiguousarray(feed, np.float32)
    if filter_px > 0:
        return np.asarray(cv2.GaussianBlur(feed, (0, 0), filter_px))
    if filter_px < 0:
        return np.asarray(2 * feed - cv2.GaussianBlur(feed, (0, 0), -filter_px))
    return feed
