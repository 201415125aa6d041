"""Which ways of moving a picture tells: the power of its slopes against that of noise, way by way.

Posts tell nothing of height, one rail nothing of growing taller: slopes along such ways are those of noise alone, which
make normal equations as large as true ones do. A way that is not told is not gone, and what is known of it is not more
than was known before.
"""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from . import align_rows
from .middle import middle

Array = NDArray[np.float32]
Matrix = NDArray[np.float64]

LEAST_POWER = 1.3  # of slopes, noise and all, against noise alone
CELLS = (24, 14)  # an area's weight is looked at in so many
UNKNOWN = 0.5  # standard deviation of a way that nothing tells, of half the area's longer side
LEAST_COUNTED = 50  # slopes that tell a noise


class Told(NamedTuple):
    """Ways of moving and what a picture tells of each.

    ways : (n, n), columns, in the numbers of the motion; power: (n), of the slopes along each, noise included, where
    that of noise is 1.
    """

    ways: Matrix
    power: NDArray[np.float64]

    @property
    def free(self) -> Matrix | None:
        """The ways that are told, (n, m); None where all are."""
        kept = self.power >= LEAST_POWER
        return None if kept.all() else np.asarray(self.ways[:, kept])

    @property
    def hidden(self) -> NDArray[np.bool_]:
        """Which ways are not told. (n)."""
        return np.asarray(self.power < LEAST_POWER)

    def real(self, noises: float) -> NDArray[np.float64]:
        """The share of the power along each way that is the picture's own, (n), where slopes hold `noises` times the
        noise that the mean of two pictures' slopes has."""
        own = np.maximum(self.power - 1, LEAST_POWER - 1)
        return np.asarray(own / (own + noises))


def _noise_of(rest: Array, weight: Array) -> NDArray[np.float64]:
    """The variance of the noise in slopes of what is left over, across and down, by their median on every third pixel:
    what does not fit is left over at edges, noise everywhere."""
    counted = weight[1:-1:3, 1:-1:3] > 0.5
    if np.count_nonzero(counted) < LEAST_COUNTED:
        return np.zeros(2)
    slopes = np.empty((2, np.count_nonzero(counted)), np.float32)
    align_rows.thirds(rest, weight, slopes)
    return np.array([(middle(each) / 0.6745) ** 2 for each in slopes])


def told_of(square: Matrix, rest: Array, weight: Array, moves_at: Matrix, unit: float) -> Told:
    """What slopes tell, by those of what is left over.

    Parameters
    ----------
    square : (n + 2, n + 2), the normal equations of the motion, by the mean of both pictures' slopes, with gain and
        bias.
    rest, weight : (h, w), what is left over between the pictures, and what of it counts.
    moves_at : (cells, 2, n), how the numbers move the middles of `CELLS`, row by row, of the area; unit: px of one.

    References
    ----------
    Attenuation by noise in the regressors: W. A. Fuller, Measurement Error Models (1987), section 2.2. From memory. The
    noise of a mean of two slopes has a quarter of the power of their difference's.
    """
    counted = np.asarray(cv2.resize(weight, CELLS, interpolation=cv2.INTER_AREA), float).reshape(-1)
    share = weight.size / counted.size
    both = _noise_of(rest, weight) / 4
    flat = moves_at.reshape(-1, moves_at.shape[2])
    base = flat.T @ (np.outer(counted, both).reshape(-1, 1) * flat) * (share * unit**2)
    light = np.linalg.pinv(square[-2:, -2:], hermitian=True)  # what gain and bias explain tells nothing
    square = square[:-2, :-2] - square[:-2, -2:] @ light @ square[-2:, :-2]
    scale = np.sqrt(np.maximum(np.diag(base), 1e-30))
    values, vectors = np.linalg.eigh(base / np.outer(scale, scale))
    root = vectors / np.sqrt(np.maximum(values, 1e-9))
    inner = root.T @ (square / np.outer(scale, scale)) @ root
    power, ways = np.linalg.eigh((inner + inner.T) / 2)
    return Told((root @ ways) / scale[:, None], power)
