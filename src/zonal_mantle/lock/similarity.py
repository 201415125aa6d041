"""Similarities (position, turn, size) from points."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.float64]


def similarity(source: NDArray, target: NDArray) -> Matrix:
    """The similarity that carries points onto points, in the least-squares sense.

    Parameters
    ----------
    source, target : (n, 2). One point gives a shift; two or more give position, turn and size.

    Returns
    -------
    (3, 3) homography of a similarity, without mirroring.

    Raises
    ------
    ValueError : no points, or several that all coincide.

    References
    ----------
    Umeyama 1991, for two dimensions, where the solution is closed in complex numbers.
    """
    source, target = np.asarray(source, float), np.asarray(target, float)
    if len(source) == 0 or source.shape != target.shape:
        raise ValueError("A similarity needs the same number of points on both sides, at least one.")
    out = np.eye(3)
    if len(source) == 1:
        out[:2, 2] = target[0] - source[0]
        return out
    a, b = source.mean(axis=0), target.mean(axis=0)
    p = (source - a) @ np.array([1, 1j])
    q = (target - b) @ np.array([1, 1j])
    power = float((np.abs(p) ** 2).sum())
    if power < 1e-12:
        raise ValueError("The marks lie on one another; two marks must be apart.")
    ratio = complex((np.conj(p) * q).sum() / power)
    out[:2, :2] = [[ratio.real, -ratio.imag], [ratio.imag, ratio.real]]
    out[:2, 2] = b - out[:2, :2] @ a
    return out
