"""Old-sky removal: what stays, free of the old sky's colour, premultiplied.

F·α = C − (1 − α)·S (Porter & Duff 1984, solved for the foreground), kept between nothing and what is seen.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, kernel

Array = NDArray[np.float32]
EMPTY, SOLID = 0.02, 0.98


def sky_behind(pixels: Array, alpha: Array, scale: float = 1.0) -> tuple[Array, Array]:
    """The sky drawn inward from around: for every pixel the mean of the nearest that are empty.

    Returns
    -------
    (h, w, 3) float32 the sky, and (h, w) float32 how far there is any to go by, 0…1.
    """
    return _drawn(pixels, alpha < EMPTY, scale)


def drawn_over(pixels: Array, where: NDArray[np.bool_], scale: float = 1.0) -> Array:
    """The colour of the pixels `where` holds, drawn over the whole picture from the nearest of them. (h, w, 3)."""
    return _drawn(pixels, where, scale)[0]


def _drawn(pixels: Array, where: NDArray[np.bool_], scale: float) -> tuple[Array, Array]:
    """Means over the pixels `where` holds, from the nearest scale that has enough of them."""
    height, width = pixels.shape[:2]
    half = (max(width // 2, 1), max(height // 2, 1))
    weight, held = where.astype(np.float32), np.empty(pixels.shape, np.float32)

    def hold(y0: int, y1: int) -> None:
        np.multiply(pixels[y0:y1], weight[y0:y1, :, None], out=held[y0:y1])

    run_bands(hold, height)
    small = [cv2.resize(picture, half, interpolation=cv2.INTER_AREA) for picture in (held, weight)]
    stack = np.dstack(small)
    guess, sure = np.empty((half[1], half[0], 3), np.float32), np.empty((half[1], half[0]), np.float32)
    for sigma, coarse in ((96.0, 8), (24.0, 4), (5.0, 1)):
        size = (max(half[0] // coarse, 1), max(half[1] // coarse, 1))
        spread = cv2.resize(stack, size, interpolation=cv2.INTER_AREA)
        spread = cv2.GaussianBlur(spread, (0, 0), max(sigma * scale / 2 / coarse, 0.5))
        spread = cv2.resize(spread, half, interpolation=cv2.INTER_LINEAR)
        run_bands(_nearer_rows, half[1], spread, coarse == 8, guess, sure)
    whole = [cv2.resize(picture, (width, height), interpolation=cv2.INTER_LINEAR) for picture in (guess, sure)]
    return np.asarray(whole[0], np.float32), np.asarray(whole[1], np.float32)


@kernel
def _nearer_rows(y0, y1, spread, is_first, guess, sure):  # type: ignore[no-untyped-def]
    """A nearer mean takes the place of those from farther away, as far as it has pixels to go by."""
    zero, one = np.float32(0), np.float32(1)
    for y in range(y0, y1):
        for x in range(spread.shape[1]):
            weight = spread[y, x, 3]
            share = min(max(weight / np.float32(0.03), zero), one)
            for c in range(3):
                colour = spread[y, x, c] / max(weight, np.float32(1e-9))
                guess[y, x, c] = colour if is_first else guess[y, x, c] * (one - share) + colour * share
            sure[y, x] = share if is_first else max(sure[y, x], share)


@fast_kernel
def _remove_rows(y0, y1, pixels, alpha, sky, sure, guess, strength, tint, out):  # type: ignore[no-untyped-def]
    zero, one = np.float32(0), np.float32(1)
    for y in range(y0, y1):
        for x in range(alpha.shape[1]):
            a = min(max(alpha[y, x], zero), one)
            gone, soft = one - a, np.float32(4) * a * (one - a)
            trust = sure[y, x] if sure.shape[0] > 1 else one
            give = one - tint * soft
            for c in range(3):
                seen = pixels[y, x, c]
                clear = seen - gone * sky[y, x, c]
                if trust < one:
                    clear = clear * trust + a * guess[y, x, c] * (one - trust)
                clear = min(max(clear, min(seen, zero)), max(seen, zero))
                out[y, x, c] = (seen * a * (one - strength) + clear * strength) * give if a > zero else zero
            out[y, x, 3] = a * give


def remove_old_sky(
    pixels: Array, alpha: Array, strength: float = 1.0, tint: float = 0.0, sky: Array | None = None, scale: float = 1.0
) -> Array:
    """What stays without the old sky in it.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    alpha : (h, w) float32.
    strength : 0 leaves the old sky in, 1 takes all of it out.
    tint : how much of what is hung behind shows through the rim, 0…1; the rim's alpha is lowered for it.
    sky : (h, w, 3) the sky behind every pixel where it is known; drawn inward from around by default, and where there
        is none near, what stays is guessed from its solid neighbours.

    Returns
    -------
    (h, w, 4) float32, premultiplied.
    """
    out = np.empty((*alpha.shape, 4), np.float32)
    one = np.ones((1, 1), np.float32)
    if sky is not None:
        args = (sky, one, sky)
    else:
        sky, sure = sky_behind(pixels, alpha, scale)
        guess = _drawn(pixels, alpha > SOLID, scale)[0] if float(sure.min()) < 1 else sky
        args = (sky, sure, guess)
    run_bands(_remove_rows, alpha.shape[0], pixels, alpha, *args, np.float32(strength), np.float32(tint), out)
    return out
