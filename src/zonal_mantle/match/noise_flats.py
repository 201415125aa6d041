"""Noise of plates whose codec carries it along: told by the flat tiles of single frames.

A codec that moves blocks from frame to frame moves their noise with them, or leaves it where it stands: between such
frames there is less noise than within each, here much less than there. What is flat tells it by itself. A tile whose
coarse part is calm has little fine texture either, since pictures hold about as much contrast in each octave.

References
----------
D. J. Field, Relations between the statistics of natural images and the response properties of cortical cells, J. Opt.
Soc. Am. A 4 (1987): the power of natural pictures falls with the square of the frequency.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .noise_shape import TILE, levelled

COARSE_PX = 4  # a side of the parts of a tile whose means are what is coarse
FLAT_SHARE = 0.2  # of the tiles, those whose coarse part is calmest
LEAST_TILES = 12
MOST_TIMES = 2.0  # the middle variance, that a flat tile has
MOST_UNLIKE = 2.5  # times, between the quarters of what flat tiles hold: more is texture
LEAST_RENEWED = 0.4  # of what is within a frame, that is new on the next: less is texture, or stands still


def flat_tiles(tiles: NDArray, left: NDArray) -> NDArray[np.int64]:
    """Which tiles hold noise alone; none where what they hold is as likely texture, or noise that stands still.

    Parameters
    ----------
    tiles : (n, TILE, TILE, 3) coded, of single frames. left : what is left of each without the same of another frame.

    Example
    -------
    >>> noise = np.random.default_rng(1).normal(0.5, 0.01, (2, 100, TILE, TILE, 3))
    >>> len(flat_tiles(noise[0], noise[0] - noise[1])), len(flat_tiles(noise[0], 0 * noise[0]))
    (20, 0)
    """
    parts = TILE // COARSE_PX
    means = tiles.reshape(-1, parts, COARSE_PX, parts, COARSE_PX, 3).mean(axis=(2, 4))
    calm = (levelled(means) ** 2).mean(axis=(1, 2, 3))
    at = np.argsort(calm, kind="stable")[: max(int(len(calm) * FLAT_SHARE), LEAST_TILES)]
    within = (levelled(tiles[at]) ** 2).mean(axis=(1, 2, 3))
    between = (left[at] ** 2).mean(axis=(1, 2, 3)) / 2
    low, middle, high = np.quantile(within, (0.25, 0.5, 0.75))
    if len(at) < LEAST_TILES or high > MOST_UNLIKE**2 * low or np.median(between) < LEAST_RENEWED**2 * middle:
        return np.zeros(0, np.int64)
    return np.asarray(at[within <= MOST_TIMES * middle], np.int64)
