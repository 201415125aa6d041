"""How far a codec that predicts frames from one another may carry a picture along.

Where a block has moved by so little that the difference stays below the step of its quantiser, nothing of it is written
down, and the block is left where its prediction has it. Blocks of a soft field do that alike, so that all of it stays
behind or bends: alignment fits the decoded frames well and cannot see it, however large the field. What is left out is
a difference of codes; how far the field's corners are off for it is that difference through the inverse of the normal
equations, as for noise (Hartley & Zisserman, 5.2.4), but for all pixels together. It is a small share of the
quantiser's step, which doubles every 6 of its parameter (ITU-T H.264, 8.5), measured on planes of photographs, sharp
and soft, as H.264 of rate factors 18 to 33 (docs/FIGURES.md); by the bits that a pixel takes it is known within a
factor of two only.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..shot.lock import Motion
from .align import BASES
from .spread import mean_trace, moved_by

Array = NDArray[np.float32]

STEP_SHARE = 0.0038  # of the step that is left out
CODE_BITS, LEAST_BITS = 0.0025 / 255, 0.005  # left out where a pixel takes one bit; in inverse proportion to bits
CALM_PX = 0.7  # what a codec leaves of grain is no slope
LEAST_SLOPE = 0.02 / 255  # of a pixel
MOST_ASKED = 200  # places to each side


def left_out(quantiser: float | None, bits: float | None) -> float:
    """The difference of codes that a codec leaves out, of a range of 1; 0 where nothing is known of it.

    Parameters
    ----------
    quantiser : its parameter, as of eight bits. bits : that a pixel takes, which counts where the other is not known.

    Example
    -------
    >>> round(255 * left_out(29.4, None), 2), round(255 * left_out(None, 0.05), 3)
    (0.07, 0.05)
    """
    return STEP_SHARE * step_of(quantiser, bits)


def step_of(quantiser: float | None, bits: float | None) -> float:
    """The step of a codec's quantiser, of a range of 1; 0 where nothing is known of it. See `left_out`.

    Example
    -------
    >>> round(255 * step_of(28, None), 1), step_of(None, None)
    (16.0, 0.0)
    """
    if quantiser is not None:
        return float(2 ** ((quantiser - 4) / 6)) / 255
    return 0.0 if bits is None else CODE_BITS / STEP_SHARE / max(bits, LEAST_BITS)


def carried_px(feed: Array, field: Array, motion: Motion, codes: float) -> float:
    """How far the corners of a field may be off, px, root mean square, where `codes` of a range of 1 are left out.

    Parameters
    ----------
    feed : (h, w) float32, 0…1. field : (h, w), what of it counts, 0…1. motion : that is looked for.
    """
    x, y, wide, high = cv2.boundingRect((field > 0.01).astype(np.uint8))
    part = slice(y, y + high), slice(x, x + wide)
    down, across = (each[part] for each in np.gradient(cv2.GaussianBlur(feed, (0, 0), CALM_PX)))
    few = slice(None, None, -(-max(wide, high, 1) // MOST_ASKED))
    rows, columns = np.nonzero(field[part][few, few] > 0.01)
    if not len(rows):
        return 0.0
    slopes = np.stack([across[few, few][rows, columns], down[few, few][rows, columns]], axis=-1)
    unit = max(wide, high) / 2
    p, q = (columns * few.step - wide / 2) / unit, (rows * few.step - high / 2) / unit
    moves = moved_by(p, q) @ BASES[motion] * unit
    seen = np.einsum("nc,nck->nk", slopes, moves)
    told = seen.T @ seen + LEAST_SLOPE**2 * np.einsum("nck,ncl->kl", moves, moves)
    ends = np.array([[-wide, -high], [wide, -high], [wide, high], [-wide, high]]) / (2 * unit)
    told += 1e-12 * np.trace(told) * np.eye(len(told))  # a line does not tell a perspective
    covariance = np.linalg.inv(told / len(rows))
    return codes * float(np.sqrt(mean_trace(moved_by(*ends.T) @ BASES[motion] * unit, covariance)))
