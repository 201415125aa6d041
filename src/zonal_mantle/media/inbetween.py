"""What a clip shows between two of its frames."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from .curves import coded

Array = NDArray[np.float32]
ALIKE_PX = 1.5  # forward and backward flow that differ by more were not found
LARGEST = 960  # pixels across, that flow is looked for on


def blended(before: Array, after: Array, share: float) -> Array:
    """Both frames, each by how near it is; (h, w, c) float32 like the two."""
    return np.asarray(cv2.addWeighted(before, 1 - share, after, share, 0), np.float32)


def flowed(before: Array, after: Array, share: float) -> Array:
    """Both frames moved to where what they show is in between, then blended by how near each is.

    Parameters
    ----------
    before, after : (h, w, 3 or 4) float32, scene-linear, premultiplied. share : 0…1 of the way from the one to the
        other.

    Where forward and backward flow contradict one another (what is covered or uncovered between the two), the nearer
    frame alone is shown.

    References
    ----------
    Dense inverse search flow: Kroeger, Timofte, Dai & Van Gool, ECCV 2016, by OpenCV.
    """
    there, back = _flow(before, after), _flow(after, before)
    height, width = before.shape[:2]
    x, y = np.meshgrid(np.arange(width, dtype=np.float32), np.arange(height, dtype=np.float32))

    def moved(picture: Array, flow: Array, by: float) -> Array:
        at = np.dstack([x, y]) + np.float32(by) * flow
        return np.asarray(
            cv2.remap(picture, at[..., 0], at[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE), np.float32
        )

    # the flow at a place in between is that which comes through it, found by one step of looking back
    forth = moved(there, there, -share)
    hither = moved(back, back, share - 1)
    one, two = moved(before, forth, -share), moved(after, hither, share - 1)
    apart = np.linalg.norm(forth + hither, axis=2)
    agree = cv2.GaussianBlur((apart < ALIKE_PX).astype(np.float32), (0, 0), 1.5)[..., None]
    mixed = one * (1 - share) + two * share
    nearer = one if share < 0.5 else two
    out = mixed * agree + nearer * (1 - agree)
    low, high = np.minimum(before.min(), after.min()), np.maximum(before.max(), after.max())
    return np.asarray(np.clip(out, low, high), np.float32)


def _flow(a: Array, b: Array) -> Array:
    """Where each pixel of the one is on the other, (h, w, 2) float32 pixels on from its own place."""
    height, width = a.shape[:2]
    fit = min(1.0, LARGEST / max(width, height))
    size = (max(16, round(width * fit)), max(16, round(height * fit)))
    one, two = (_eight_bits(np.asarray(cv2.resize(p, size, interpolation=cv2.INTER_AREA), np.float32)) for p in (a, b))
    finder = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    flow = finder.calc(one, two, None)  # type: ignore[call-overload]
    flow = cv2.resize(flow, (width, height), interpolation=cv2.INTER_LINEAR)
    return np.asarray(flow * np.array([width / size[0], height / size[1]], np.float32), np.float32)


def _eight_bits(picture: Array) -> NDArray[np.uint8]:
    codes = coded(np.ascontiguousarray(picture[..., :3], np.float32)) @ np.array((0.2126, 0.7152, 0.0722), np.float32)
    return np.round(np.clip(np.nan_to_num(codes), 0, 1) * 255).astype(np.uint8)
