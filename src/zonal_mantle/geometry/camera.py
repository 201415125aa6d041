"""The camera matrix of a lens whose axis goes through the middle of the frame."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.float64]
DEFAULT_FOCAL = 1.4  # frame widths: a view of about 40°, for a lens that is not known


def camera_matrix(focal_px: float | None, size: tuple[int, int]) -> Matrix:
    """(3, 3) from camera axes (x right, y down, z forward) to pixels, without distortion.

    Parameters
    ----------
    focal_px : focal length in pixels; None: not known, about 40° across are assumed.
    size : width and height of the frame.

    References
    ----------
    Hartley & Zisserman 2004, section 6.1.

    Examples
    --------
    >>> camera_matrix(1000.0, (1280, 720)).tolist()
    [[1000.0, 0.0, 640.0], [0.0, 1000.0, 360.0], [0.0, 0.0, 1.0]]
    """
    focal = focal_px or DEFAULT_FOCAL * size[0]
    return np.array([[focal, 0, size[0] / 2], [0, focal, size[1] / 2], [0, 0, 1.0]])


def rays_of(k: Matrix, points: NDArray) -> NDArray[np.float64]:
    """Directions (n, 3) in camera axes, not of unit length, that are seen at places (n, 2)."""
    lifted = np.concatenate([points, np.ones((len(points), 1))], axis=1)
    return np.asarray(lifted @ np.linalg.inv(k).T)
