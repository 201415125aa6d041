"""Words burnt into a picture's foot, in the font that ships with the application."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from ..words import say
from .errors import FinishError

Array = NDArray[np.float32]
SHARE = 1 / 36  # of the frame's height: the size of the letters
FONT = Path(__file__).parents[1] / "assets" / "Inter-Medium.otf"
WHITE, GROUND = 0.75, 0.35  # scene-linear brightness of the words, and what is left of the picture behind them


@lru_cache(maxsize=64)
def _words(text: str, size: int) -> Array:
    """How much of each pixel the words cover. (h, w) float32."""
    box = oiio.ImageBufAlgo.text_size(text, size, str(FONT))
    if box.xend <= box.xbegin:
        return np.zeros((size, 1), np.float32)
    pad = max(2, size // 3)
    width, height = box.xend - box.xbegin + 2 * pad, size + 2 * pad
    picture = oiio.ImageBuf(oiio.ImageSpec(width, height, 1, oiio.FLOAT))
    foot = pad + round(size * 0.78)
    if not oiio.ImageBufAlgo.render_text(picture, pad - box.xbegin, foot, text, size, str(FONT), (1.0,)):
        raise FinishError(say("The words of the burn-in cannot be drawn: {reason}.", reason=picture.geterror()))
    return np.asarray(picture.get_pixels(oiio.FLOAT), np.float32).reshape(height, width)


def burnt_in(picture: Array, left: str, middle: str, right: str) -> Array:
    """A picture with words at its foot, at the left, in the middle and at the right. (h, w, 4) float32; a new one."""
    out = picture.copy()
    height, width = out.shape[:2]
    size = max(8, round(height * SHARE))
    for text, place in ((left, 0.0), (middle, 0.5), (right, 1.0)):
        if not text:
            continue
        cover = _words(text, size)[:height, :width]
        tall, wide = cover.shape
        x = min(max(round(place * (width - wide)), 0), width - wide)
        part = out[height - tall :, x : x + wide]
        part[..., :3] *= GROUND
        part[..., 3] = GROUND * part[..., 3] + (1 - GROUND)
        part[..., :3] += cover[..., None] * (WHITE - part[..., :3])
        part[..., 3] += cover * (1 - part[..., 3])
    return out
