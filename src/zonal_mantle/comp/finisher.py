"""A finished picture: what its plan asks for, done in its fixed order."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..finish.burn_in import burnt_in
from ..finish.frame import resampled, with_bars
from ..finish.glow import glowing
from ..finish.local import lit
from ..finish.lut import through_lut
from ..finish.vignette import vignetted
from ..match.grain import with_grain
from ..match.tone import apply_tone
from ..matte.shapes import union
from .finish_plan import Film, FinishPlan, Leaving
from .glass import across_picture

Array = NDArray[np.float32]


def finished(
    picture: Array,
    finish: FinishPlan,
    scale: float,
    share_of: Callable[[tuple[float, ...]], Array],
    noise_of: Callable[[Film], Array],
) -> Array:
    """A picture finished.

    Parameters
    ----------
    picture : (h, w, 4) float32, scene-linear, premultiplied; the caller's to give away.
    scale : its pixels to one of the plate. share_of : how much of each pixel layers of these weights are, (h, w).
    noise_of : what a film's grain is.

    Raises
    ------
    FinishError : a LUT cannot be used.
    """
    height, width = picture.shape[:2]
    if finish.tone.stages:
        apply_tone(picture, finish.tone)
    if finish.across is not None:
        picture = across_picture(picture, finish.across, scale, 0)
    if (lut := finish.lut) is not None:
        through_lut(picture, lut.file.path, lut.file.stamp, lut.encoding, lut.strength, out=picture)
    if finish.glow is not None:
        glowing(picture, finish.glow, out=picture)
    if finish.vignette is not None:
        vignetted(picture, finish.vignette, out=picture)
    for light in finish.lights:
        cover = union((light.shape,), (width, height), scale)
        share = None if light.weights is None else share_of(light.weights)
        lit(picture, cover, np.array(light.matrix).reshape(3, 3), share, out=picture)
    if (film := finish.film) is not None:
        share = np.full((1, width), film.strengths[0], np.float32)
        with_grain(picture, noise_of(film), film.model, share, out=picture)
    return picture if finish.leaving is None else leave(picture, finish.leaving)


def leave(picture: Array, leaving: Leaving) -> Array:
    """The frame as it leaves: of its window, its size, with its bars and words."""
    out = resampled(picture, leaving.window, leaving.inner)
    if leaving.inner != leaving.size:
        whole = np.zeros((leaving.size[1], leaving.size[0], 4), np.float32)
        whole[..., 3] = 1
        x, y = (leaving.size[0] - leaving.inner[0]) // 2, (leaving.size[1] - leaving.inner[1]) // 2
        whole[y : y + leaving.inner[1], x : x + leaving.inner[0]] = out
        out = whole
    if leaving.bars is not None:
        out = with_bars(out, leaving.bars)
    return out if leaving.words is None else burnt_in(out, *leaving.words)
