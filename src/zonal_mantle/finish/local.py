"""Light on a part of the picture: brighter or darker, warmer or cooler, more or less coloured."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..match.tone import REC709_LUMA
from ..match.white import adaptation
from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from ..shot.match import DAYLIGHT_DUV, DAYLIGHT_K

Array = NDArray[np.float32]


def light_matrix(stops: float, kelvin: float, saturation: float) -> NDArray[np.float64]:
    """What a local light does to scene-linear colour, (3, 3): exposure, white by Bradford, saturation."""
    white = np.eye(3) if kelvin == DAYLIGHT_K else adaptation(kelvin, DAYLIGHT_DUV)
    grey = np.tile(REC709_LUMA, (3, 1))
    return np.asarray(2.0**stops * (grey + saturation * (np.eye(3) - grey)) @ white)


@fast_kernel
def _lit_rows(y0, y1, picture, cover, share, has_share, matrix, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(picture.shape[1]):
            part = cover[y, x]
            if has_share:
                part *= min(max(share[y, x], np.float32(0)), np.float32(1))
            r, g, b = picture[y, x, 0], picture[y, x, 1], picture[y, x, 2]
            for c in range(3):
                lit = matrix[c, 0] * r + matrix[c, 1] * g + matrix[c, 2] * b
                out[y, x, c] = picture[y, x, c] + part * (lit - picture[y, x, c])
            out[y, x, 3] = picture[y, x, 3]


_NO_SHARE = np.zeros((1, 1), np.float32)


def lit(picture: Array, cover: Array, matrix: NDArray, share: Array | None = None, out: Array | None = None) -> Array:
    """A picture with a light on it.

    Parameters
    ----------
    picture : (h, w, 4) float32, scene-linear, premultiplied. cover : (h, w), 0…1, where the light falls.
    matrix : see `light_matrix`. share : (h, w), how much of each pixel it reaches. out : may be the picture itself.
    """
    out = np.empty_like(picture) if out is None else out
    has = share is not None
    arguments = (picture, cover, _NO_SHARE if share is None else share, has, matrix.astype(np.float32), out)
    run_bands(_lit_rows, picture.shape[0], *arguments)
    return out
