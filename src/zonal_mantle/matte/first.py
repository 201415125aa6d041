"""The pull that a picture of its own begins with: by what it was shot before."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..media.curves import coded
from ..shot.keyed import Keyed
from ..shot.matte import ClearSkyPull, LumaPull, Pull, ScreenPull

Array = NDArray[np.float32]
Screen = Literal["blue", "green"]
SCREENS: dict[Screen, int] = {"blue": 2, "green": 1}  # and their channels
RIM = 0.06  # of the frame's shorter side
STANDS_OUT = 0.12  # coded: a screen's channel over the others
DARK = 0.06  # coded
# a screen that a picture was shot before: the share of each side that it fills; the others over its channel, and how
# uneven its light is, of its middle, which skies are not as strong in colour, or as even, all round
ALL_ROUND, STRONG, EVEN = 0.8, 0.55, 0.25


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
    codes = np.concatenate(_sides(pixels))
    for screen in SCREENS:
        if np.mean(_stands_out(codes, screen)) > 0.5:
            return ScreenPull(id=id, screen=screen), False
    if np.percentile(codes.max(axis=1), 90) < DARK:
        return own_luma(id), True
    return ClearSkyPull(id=id), False


def screen_of(pixels: Array) -> Screen | None:
    """The screen that a picture was surely shot before: one strong, even blue or green all round it; None of others.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.

    Examples
    --------
    >>> screen_of(np.full((40, 60, 3), (0.05, 0.1, 0.6), np.float32))
    'blue'
    >>> screen_of(np.full((40, 60, 3), (0.15, 0.3, 0.6), np.float32)) is None  # of a sky
    True
    """
    sides = _sides(pixels)
    for screen, channel in SCREENS.items():
        held = [codes[_stands_out(codes, screen)] for codes in sides]
        if min(len(some) / len(codes) for some, codes in zip(held, sides)) < ALL_ROUND:
            continue
        rim = np.concatenate(held)
        middle = np.median(rim, axis=0)
        strong = np.delete(middle, channel).max() < STRONG * middle[channel]
        low, high = np.percentile(rim[:, channel], (10, 90))
        if strong and high - low < EVEN * middle[channel]:
            return screen
    return None


def _sides(pixels: Array) -> list[Array]:
    """The colours along each side of a picture, coded, (n, 3) each."""
    deep = max(1, round(RIM * min(pixels.shape[:2])))
    parts = (pixels[:deep], pixels[-deep:], pixels[:, :deep], pixels[:, -deep:])
    return [np.asarray(coded(np.ascontiguousarray(part[..., :3], np.float32))).reshape(-1, 3) for part in parts]


def _stands_out(codes: Array, screen: Screen) -> NDArray[np.bool_]:
    """Which colours, (n, 3), are those of a screen."""
    channel = SCREENS[screen]
    return np.asarray(codes[:, channel] - np.delete(codes, channel, axis=1).max(axis=1) > STANDS_OUT)
