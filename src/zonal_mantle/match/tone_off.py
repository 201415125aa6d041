"""How far a zone's tone seems to be off its aim's: what a fit would still change, and how unsure that is.

Percentiles of two things that are not the same differ by far more than most tones: of halves of photographs whose tones
were right they are 12 ΔE apart in the middle. What parts of one kind, points and the colours of light tell (`kindred`)
is 2 ΔE off there, and says by how much it may be.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from .compare import delta_e_2000, lab
from .kindred import Part, calmed, fit_kindred, looked_at
from .tone import LOG_SCALE
from .tone_fit import ToneFit, light_of, log_codes

Values = NDArray[np.float64]
BLOCK_PX = 16
WHOLE = 0.9  # of a block that is compared


class ToneOff(NamedTuple):
    """delta_e : CIEDE2000 at the display between the zone as it is seen and as it would be by its aim's tone, the mean
    of blocks of 16 px; spread : the standard deviation of that, by how unsure lightness and white are."""

    delta_e: float
    spread: float


def tone_off(own: Sequence[Part], aim: Sequence[Part]) -> ToneOff:
    """How far a zone's tone seems to be off.

    Parameters
    ----------
    own, aim : the zone and its aim on some frames, scene-linear (h, w, 3), and where they are looked at.

    Raises
    ------
    ValueError : one of them is too small, or both show too unlike things.

    Example
    -------
    >>> rng = np.random.default_rng(1)
    >>> grass = rng.uniform(0.1, 0.3, (120, 120, 3)).astype(np.float32)
    >>> everywhere = np.ones((120, 120), bool)
    >>> found = [tone_off([(by * grass, everywhere)], [(grass, everywhere)]).delta_e for by in (1.0, 2.0)]
    >>> found[0] < 2 < 6 < found[1]
    True
    """
    fit = fit_kindred(own, aim)
    colours = np.concatenate([_blocks(picture, mask) for picture, mask in own])
    now, codes = lab(colours), log_codes(colours)

    def apart(moved: Values) -> float:
        return float(delta_e_2000(now, lab(light_of(moved))).mean())

    white = fit.white_spread / LOG_SCALE / 2
    unsure = apart(codes + fit.spread[0] / LOG_SCALE), apart(codes + np.array([-white, 0.0, white]))
    return ToneOff(apart(_toned(codes, fit)), float(np.hypot(*unsure)))


def _toned(codes: Values, fit: ToneFit) -> Values:
    matrix = np.reshape(fit.matrix, (3, 4))
    return np.asarray(codes @ matrix[:, :3].T + matrix[:, 3])


def _blocks(picture: NDArray[np.float32], mask: NDArray[np.bool_]) -> Values:
    """Mean colours of the blocks that lie inside, (n, 3); of a small part single pixels, without noise."""
    picture, mask = looked_at(picture, mask)
    size = tuple(max(n // BLOCK_PX, 1) for n in mask.shape[::-1])
    light = np.where(mask[..., None], picture, 0).astype(np.float32)
    share = cv2.resize(mask.astype(np.float32), size, interpolation=cv2.INTER_AREA)
    whole = share > WHOLE
    if np.count_nonzero(whole) < BLOCK_PX:
        return np.asarray(calmed(picture, mask)[mask][::BLOCK_PX], float)
    means = cv2.resize(light, size, interpolation=cv2.INTER_AREA).reshape(*share.shape, 3)
    return np.asarray(means[whole] / share[whole][:, None], float)
