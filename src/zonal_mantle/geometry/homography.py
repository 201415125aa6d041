"""Points through a homography, and homographies between places and array indices."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.float64]
_HALF = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]])
_BACK = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1]])


def carry(matrix: NDArray, points: NDArray) -> NDArray[np.float64]:
    """Points (n, 2) through a homography (3, 3).

    References
    ----------
    Hartley & Zisserman 2004, *Multiple View Geometry*, section 2.3.

    Examples
    --------
    >>> carry(np.diag([2.0, 3.0, 1.0]), np.array([[1.0, 1.0]])).tolist()
    [[2.0, 3.0]]
    """
    flat = np.asarray(points, float).reshape(-1, 2)
    lifted = np.concatenate([flat, np.ones((len(flat), 1))], axis=1) @ np.asarray(matrix).T
    return np.asarray(lifted[:, :2] / lifted[:, 2:])


def between_centres(matrix: NDArray) -> Matrix:
    """A homography between places as one between array indices, as OpenCV's warps want it.

    Pixel (i, j) covers [i, i + 1) × [j, j + 1): its index is its place less one half.

    Examples
    --------
    >>> between_centres(np.diag([0.5, 0.5, 1.0]))[0].tolist()
    [0.5, 0.0, -0.25]
    """
    return np.asarray(_BACK @ np.asarray(matrix, float) @ _HALF)


def scaling(size: tuple[int, int], target: tuple[int, int]) -> Matrix:
    """Places on a picture of one size (width, height) to those on the same picture at another size.

    Examples
    --------
    >>> scaling((200, 100), (100, 50)).diagonal().tolist()
    [0.5, 0.5, 1.0]
    """
    return np.diag([target[0] / size[0], target[1] / size[1], 1.0])
