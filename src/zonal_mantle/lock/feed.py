"""The one-channel feed that a lock looks at."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from ..media.powers import coded_value

Array = NDArray[np.float32]
CHANNELS = ("red", "green", "blue", "luma", "saturation")
BRIGHTEST = np.float32(16)
LUMA = tuple(np.float32(each) for each in (0.2126, 0.7152, 0.0722))  # ITU-R BT.709


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
    feed = np.empty(pixels.shape[:2], np.float32)
    run_bands(_feed_rows, len(feed), np.ascontiguousarray(pixels, np.float32), CHANNELS.index(channel), feed)
    if filter_px > 0:
        return np.asarray(cv2.GaussianBlur(feed, (0, 0), filter_px))
    if filter_px < 0:
        return np.asarray(2 * feed - cv2.GaussianBlur(feed, (0, 0), -filter_px))
    return feed


@fast_kernel
def _feed_rows(y0, y1, pixels, channel, out):  # type: ignore[no-untyped-def]
    """A row at a time is laid out flat first: only then the curve becomes vector code."""
    width, none, least = out.shape[1], np.float32(0), np.float32(1e-3)
    row, codes = np.empty(3 * width, np.float32), np.empty(3 * width, np.float32)
    for y in range(y0, y1):
        for x in range(width):
            for k in range(3):
                value = pixels[y, x, k]
                row[3 * x + k] = min(max(value, none), BRIGHTEST) if value == value else none  # not a number is black
        for k in range(np.uintp(3 * width)):
            codes[k] = coded_value(row[k])
        for x in range(width):
            r, g, b = codes[3 * x], codes[3 * x + 1], codes[3 * x + 2]
            if channel < 3:
                out[y, x] = codes[3 * x + channel]
            elif channel == 3:
                out[y, x] = LUMA[0] * r + LUMA[1] * g + LUMA[2] * b
            else:
                high = max(r, g, b)
                out[y, x] = (high - min(r, g, b)) / max(high, least)
