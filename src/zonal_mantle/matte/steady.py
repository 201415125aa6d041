"""Steadying a matte over time, so that its edge does not chatter."""

from __future__ import annotations

from collections.abc import Iterable

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry import between_centres

Array = NDArray[np.float32]
ALIKE = 0.03  # coded values: plates further apart than this are not averaged


def steady(alpha: Array, feed: Array, others: Iterable[tuple[Array, Array, NDArray]], amount: float) -> Array:
    """The mean of a matte with those of its neighbours in time, where the plate is the same there.

    What moves against the lock looks different on the neighbouring frame and is left alone: no ghosts.

    Parameters
    ----------
    alpha, feed : (h, w) float32, this frame's matte and coded brightness.
    others : matte, coded brightness and (3, 3) motion to this frame, of each neighbour.
    amount : weight of each neighbour against this frame, 0…1.
    """
    size = (alpha.shape[1], alpha.shape[0])
    total, weight = alpha.copy(), np.ones_like(alpha)
    calm = cv2.GaussianBlur(feed, (0, 0), 1.5)
    for other, its_feed, motion in others:
        matrix = between_centres(motion)
        flags = cv2.INTER_CUBIC
        carried = cv2.warpPerspective(other, matrix, size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
        seen = cv2.warpPerspective(np.ones_like(other), matrix, size, flags=cv2.INTER_LINEAR)
        like = cv2.warpPerspective(its_feed, matrix, size, flags=flags, borderMode=cv2.BORDER_REPLICATE)
        apart = cv2.GaussianBlur(like, (0, 0), 1.5) - calm
        share = (amount * np.exp(-((apart / ALIKE) ** 2)) * (seen > 0.999)).astype(np.float32)
        total += share * np.clip(carried, 0, 1)
        weight += share
    return np.asarray(total / weight, np.float32)
