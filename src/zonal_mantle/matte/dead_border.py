"""Black borders of a plate, which show nothing: bars of another picture shape, and what undistorting leaves at the rim.

They lie at two opposite sides alike, are black all through, and end in a smooth line; a black night sky is at the top
alone, or ends where roofs and lights do.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]

BLACK = 0.012  # coded: three of 255
LEAST_DEEP, ALIKE = 0.2, 2.0  # working pixels in the mean of a side; times that opposite sides differ by at most
STEP_PX, MOST_STEPS = 1, 0.03  # by which a smooth line goes on to the next pixel, and where it may do otherwise
MOST_DEAD = 0.5  # of a frame


def dead_border(picture: Array) -> NDArray[np.bool_] | None:
    """Where a picture shows nothing, (h, w); None where it shows something everywhere. picture (h, w, 3) coded.

    Example
    -------
    >>> picture = np.full((54, 96, 3), 0.5, np.float32)
    >>> dead_border(picture) is None
    True
    >>> picture[:6] = picture[-6:] = 0
    >>> int(dead_border(picture).sum()) // 96
    12
    """
    black = (np.maximum(np.maximum(picture[..., 0], picture[..., 1]), picture[..., 2]) <= BLACK).astype(np.uint8)
    rim = np.concatenate([black[0], black[-1], black[:, 0], black[:, -1]])
    if not rim.any():
        return None
    _, labels = cv2.connectedComponents(black, connectivity=4)
    outer = np.unique(np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]]))
    dead = np.isin(labels, outer[outer > 0])
    above_and_below = _alike(_deep(dead), _deep(dead[::-1]))
    aside = _alike(_deep(dead.T), _deep(dead[:, ::-1].T))
    if not (above_and_below or aside) or dead.mean() > MOST_DEAD:
        return None
    return np.asarray(dead)


def _deep(dead: NDArray[np.bool_]) -> NDArray[np.float64]:
    """How many pixels are dead from the top on, by column; none where all of it is."""
    deep = np.logical_and.accumulate(dead, axis=0).sum(axis=0)
    return np.asarray(np.where(deep < len(dead), deep, 0), float)


def _alike(a: NDArray[np.float64], b: NDArray[np.float64]) -> bool:
    """Whether two opposite sides are as deep, and both end in a smooth line."""
    one, two = float(a.mean()), float(b.mean())
    if any((np.abs(np.diff(side)) > STEP_PX).mean() > MOST_STEPS for side in (a, b)):
        return False
    return min(one, two) >= LEAST_DEEP and max(one, two) <= ALIKE * min(one, two)


def filled_in(picture: Array, dead: NDArray[np.bool_]) -> Array:
    """A picture with what is dead as the nearest pixel that is not, a pixel further in: the rim is mixed with black."""
    wide = cv2.dilate(dead.astype(np.uint8), np.ones((3, 3), np.uint8))
    if wide.all():
        return picture
    _, labels = cv2.distanceTransformWithLabels(wide, cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL)
    alive = wide == 0
    of_label = np.zeros((int(labels.max()) + 1, 3), np.float32)
    of_label[labels[alive]] = picture[alive]
    return np.asarray(of_label[labels], np.float32)
