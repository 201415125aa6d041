"""The tone of a zone that has no aim drawn, and palettes as a whole; for an aim that was drawn see `kindred`.

Model: in the log encoding the aim's lightness and its two opponent colours are the zone's own, moved and spread: black
and white points, middle, tint, saturation. Zone and aim do not show the same things, nor things of one kind. How far
two parts of a picture differ by what they happen to show is measured, from block to block of each: pictures vary as
much from octave to octave of size, so parts as large as both differ about as much as their blocks do. A difference
counts for as much as it stands out from that (an empirical Bayes estimate), and from how things differ. Or the palette
as a whole: the linear map of least motion that turns the one covariance into the other.

References
----------
B. Efron & C. Morris, Data analysis using Stein's estimator and its generalizations, JASA 70 (1975). F. Pitié & A.
Kokaram, The linear Monge-Kantorovitch linear colour mapping for example-based colour transfer, CVMP 2007. D. Field,
Relations between the statistics of natural images and the response properties of cortical cells, JOSA A 4 (1987):
equal variance in each octave.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..words import say
from .tone import LOG_BREAK, LOG_OFFSET, LOG_SCALE, LOG_SHIFT, LOG_SLOPE

OPPONENT = np.array([[1 / 3, 1 / 3, 1 / 3], [1.0, 0.0, -1.0], [-0.5, 1.0, -0.5]])
# how far tones usually lie from one another, in log codes and in logarithms of spread: what is fitted starts from there
USUAL_MOVE = np.array([0.06, 0.03, 0.02])
USUAL_SPREAD = np.array([0.18, 0.25, 0.25])
CONTENT = 0.2  # of the variance from block to block; measured on halves of photographs and textures
# how far different things lie from one another: by a third to two thirds of this photographs of unlike things were
# taken farther from what they had been on 42 of 100, by this on 8; their own other halves tell nothing either way
OTHER_MOVE = np.array([0.12, 0.12, 0.10])
OTHER_SPREAD = np.array([0.9, 1.2, 1.2])
STANDS_OUT = 2.0  # standard deviations
MOST_CLIPPED = 0.4  # share of pixels at the brightest value
LEAST_PIXELS, LEAST_BLOCKS, LEAST_RANGE = 400, 4, 0.004


class ToneFit(NamedTuple):
    """matrix : twelve numbers in the log encoding, see `shot.match.Palette`. spread : standard deviations of lightness
    moved (stops) and of contrast (share)."""

    matrix: tuple[float, ...]
    moved_stops: float
    contrast: float
    saturation: float
    spread: tuple[float, float]
    white_spread: float  # standard deviation of `cooler_stops`

    @property
    def cooler_stops(self) -> float:
        """How much brighter blue becomes than red, on a middle grey; below 0 where it becomes warmer."""
        grey = np.append(log_codes(np.full(3, 0.18)), 1.0)
        red, _, blue = np.reshape(self.matrix, (3, 4)) @ grey * LOG_SCALE
        return float(blue - red)

    @property
    def greener_stops(self) -> float:
        """How much brighter green becomes than red and blue, on a middle grey; below 0 where it becomes magenta."""
        grey = np.append(log_codes(np.full(3, 0.18)), 1.0)
        return float(OPPONENT[2] @ np.reshape(self.matrix, (3, 4)) @ grey * LOG_SCALE)


def log_codes(pixels: NDArray) -> NDArray[np.float64]:
    """Scene-linear to the log encoding of `match.tone`. (…, 3)."""
    x = np.asarray(pixels, float)
    high = (np.log2(np.maximum(x, LOG_BREAK)) + LOG_SHIFT) / LOG_SCALE
    return np.asarray(np.where(x > LOG_BREAK, high, LOG_SLOPE * x + LOG_OFFSET))


def light_of(codes: NDArray) -> NDArray[np.float64]:
    """The log encoding of `match.tone` back to scene-linear. (…, 3).

    >>> light_of(log_codes(np.array([0.001, 0.18, 4.0]))).round(9).tolist()
    [0.001, 0.18, 4.0]
    """
    y = np.asarray(codes, float)
    low = (y - LOG_OFFSET) / LOG_SLOPE
    return np.asarray(np.where(y > LOG_SLOPE * LOG_BREAK + LOG_OFFSET, 2.0 ** (y * LOG_SCALE - LOG_SHIFT), low))


def fit_tone(own: Sequence[NDArray], aim: Sequence[NDArray]) -> ToneFit:
    """Lightness, contrast, tint and saturation of the aim, as far as they stand out from how things differ.

    Parameters
    ----------
    own, aim : blocks of pixels of each, scene-linear (n, 3).

    Raises
    ------
    ValueError : there is too little of one of them, or it is of one colour.
    """
    comparable(own, aim)
    (m_own, s_own, v_own, w_own), (m_aim, s_aim, v_aim, w_aim) = (_statistics(blocks) for blocks in (own, aim))
    moving = CONTENT * (v_own + v_aim) + OTHER_MOVE**2
    spreading = CONTENT * (w_own + w_aim) + OTHER_SPREAD**2
    apart, wider = m_aim - m_own, s_aim - s_own
    apart = np.where(np.abs(apart) > STANDS_OUT * np.sqrt(moving), apart, 0)
    wider = np.where(np.abs(wider) > STANDS_OUT * np.sqrt(spreading), wider, 0)
    move = apart * USUAL_MOVE**2 / (USUAL_MOVE**2 + moving)
    spread = np.exp(wider * USUAL_SPREAD**2 / (USUAL_SPREAD**2 + spreading))
    back = np.linalg.inv(OPPONENT)
    linear = back @ np.diag(spread) @ OPPONENT
    offset = back @ (m_own + move - spread * m_own)
    left = (
        moving * USUAL_MOVE**2 / (USUAL_MOVE**2 + moving),
        spreading * USUAL_SPREAD**2 / (USUAL_SPREAD**2 + spreading),
    )
    white = np.sqrt(((back[2] - back[0])[1:] ** 2 * left[0][1:]).sum()) * LOG_SCALE
    return ToneFit(
        tuple(np.hstack([linear, offset[:, None]]).ravel().tolist()), float(move[0] * LOG_SCALE), float(spread[0]),
        float(np.sqrt(spread[1] * spread[2])), (float(np.sqrt(left[0][0]) * LOG_SCALE), float(np.sqrt(left[1][0]))),
        float(white),
    )  # fmt: skip


def fit_palette(own: Sequence[NDArray], aim: Sequence[NDArray]) -> tuple[float, ...]:
    """The map of least motion from the one palette to the other: twelve numbers in the log encoding (Pitié & Kokaram
    2007, equation 6). Raises as `fit_tone`."""
    comparable(own, aim)
    a, b = (log_codes(np.concatenate(list(blocks))) for blocks in (own, aim))
    return monge_kantorovich(a.mean(axis=0), np.cov(a.T), b.mean(axis=0), np.cov(b.T))


def monge_kantorovich(m_a: NDArray, c_a: NDArray, m_b: NDArray, c_b: NDArray) -> tuple[float, ...]:
    """T = A^(−½) (A^½ B A^½)^½ A^(−½), and the offset that carries the means. Twelve numbers."""
    root = _root(c_a + 1e-9 * np.eye(3))
    inverse = np.linalg.inv(root)
    linear = inverse @ _root(root @ c_b @ root) @ inverse
    return tuple(np.hstack([linear, (m_b - linear @ m_a)[:, None]]).ravel().tolist())


def _root(matrix: NDArray) -> NDArray[np.float64]:
    values, vectors = np.linalg.eigh(matrix)
    return np.asarray(vectors @ np.diag(np.sqrt(np.maximum(values, 0))) @ vectors.T)


def comparable(own: Sequence[NDArray], aim: Sequence[NDArray]) -> None:
    """Refuses blocks of pixels that are too few, of one colour or clipped.

    Raises
    ------
    ValueError : says which of both, and why.
    """
    _check(own, "zone")
    _check(aim, "aim")


def _check(blocks: Sequence[NDArray], name: str) -> None:
    count = sum(len(block) for block in blocks)
    if count < LEAST_PIXELS or len(blocks) < LEAST_BLOCKS:
        raise ValueError(say("The {name} is too small to compare: {count} pixels.", name=name, count=count))
    codes = log_codes(np.concatenate(list(blocks)))
    if codes.std(axis=0).max() < LEAST_RANGE:
        raise ValueError(say("The {name} is of one colour: contrast and saturation cannot be measured.", name=name))
    top = codes.max()
    if (codes.max(axis=1) > top - 1e-3).mean() > MOST_CLIPPED:
        raise ValueError(
            say("The {name} is clipped: most of it is as bright as its brightest. Choose another part.", name=name)
        )


def _of(codes: NDArray) -> tuple[NDArray, NDArray]:
    seen = codes @ OPPONENT.T
    return seen.mean(axis=0), np.log(seen.std(axis=0) + 1e-3)


def _statistics(blocks: Sequence[NDArray]) -> tuple[NDArray, NDArray, NDArray, NDArray]:
    """Means and logarithms of spreads in the opponent axes, and the variances of both from block to block."""
    codes = [log_codes(block[:: max(1, len(block) // 400)]) for block in blocks]
    mean, spread = _of(np.concatenate(codes))
    each = [_of(part) for part in codes]
    means, spreads = (np.array([pair[k] for pair in each]) for k in (0, 1))
    return mean, spread, np.var(means, axis=0), np.var(spreads, axis=0)
