"""The pull that a picture of its own begins with: by what it was shot before."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..media.curves import coded
from ..shot.keyed import Keyed
from ..shot.matte import ClearSkyPull, LumaPull, Pull, ScreenPull

Array = NDArray[np.float32]
RIM = 0.06  # of the frame's shorter side
STANDS_OUT = 0.12  # coded: a screen's channel over the others
DARK = 0.06  # coded


def own_luma(id: str) -> LumaPull:
    """Alpha that is the picture's own coded brightness, straight from black to white: for light that adds."""
    one = Keyed(constant=1.0)
    return LumaPull(id=id, low=one, low_softness=one, high=Keyed(constant=1000.0), high_softness=Keyed(constant=0.0))


def first_pull(pixels: Array, id: str) -> tuple[Pull, bool]:
    """A pull to begin with, and whether the picture was shot on black.

    A screen pull where most of the rim is blue or green, the picture's own luma where nearly all of it is black, else
    the sky.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.

    Examples
    --------
    >>> first_pull(np.full((40, 60, 3), (0.05, 0.1, 0.6), np.float32), "pull1")[0].kind
    'screen'
    """
    deep = max(1, round(RIM * min(pixels.shape[:2])))
    sides = (pixels[:deep], pixels[-deep:], pixels[:, :deep], pixels[:, -deep:])
    rim = np.concatenate([part.reshape(-1, 3) for part in sides])
    codes = np.asarray(coded(np.ascontiguousarray(rim[None], np.float32))[0])
    for screen, channel in (("blue", 2), ("green", 1)):
        others = np.delete(codes, channel, axis=1).max(axis=1)
        if np.mean(codes[:, channel] - others > STANDS_OUT) > 0.5:
            return ScreenPull(id=id, screen=screen), False  # type: ignore[arg-type]
    if np.percentile(codes.max(axis=1), 90) < DARK:
        return own_luma(id), True
    return ClearSkyPull(id=id), False
