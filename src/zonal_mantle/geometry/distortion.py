"""One term of radial distortion, and its inverse."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

NEWTON_STEPS = 12


def distorted(points: NDArray, k: NDArray, distortion: float) -> NDArray[np.float64]:
    """Ideal places (n, 2) as a lens with one term of radial distortion shows them: r (1 + k₁ r²), r in focal lengths.

    References
    ----------
    Brown 1966, *Decentering Distortion of Lenses*.
    """
    centre, focal = k[:2, 2], k[0, 0]
    off = (np.asarray(points, float) - centre) / focal
    return np.asarray(centre + focal * off * (1 + distortion * (off**2).sum(axis=1, keepdims=True)))


def undistorted(points: NDArray, k: NDArray, distortion: float) -> NDArray[np.float64]:
    """The inverse of `distorted`, by Newton's method on the radius.

    Examples
    --------
    >>> k = np.array([[1000.0, 0, 640], [0, 1000.0, 360], [0, 0, 1]])
    >>> there = np.array([[100.0, 50.0]])
    >>> np.allclose(undistorted(distorted(there, k, -0.08), k, -0.08), there, atol=1e-9)
    True
    """
    centre, focal = k[:2, 2], k[0, 0]
    off = (np.asarray(points, float) - centre) / focal
    seen = np.linalg.norm(off, axis=1, keepdims=True)
    r = seen.copy()
    for _ in range(NEWTON_STEPS):
        r -= (r * (1 + distortion * r**2) - seen) / np.maximum(1 + 3 * distortion * r**2, 0.1)
    return np.asarray(centre + focal * off * np.where(seen > 1e-12, r / np.maximum(seen, 1e-12), 1))
