"""Old-sky removal: what stays, free of the old sky's colour, premultiplied.

F·α = C − (1 − α)·S (Porter & Duff 1984, solved for the foreground), kept between nothing and what is seen. An alpha
that is off by a little leaves some of the sky there, or takes too much, another bit on every pixel, which shows as
specks once what is hung behind is darker. But what stays is of much the same colour from pixel to pixel, where alpha is
not: so it is first found by least squares for a few pixels together, F̄ = Σ α·(C − (1 − α)·S) / Σ α², and a pixel has as
much of its own as it is solid, α·F̄ + α·(C − (1 − α)·S − α·F̄).

References
----------
M. Forte, Approximate fast foreground colour estimation, ICIP 2021: a mean of what is near, and a pixel's own share in
it (α² there; α is as good before other skies and better before one like the old); T. Germer et al., Fast multi-level
foreground estimation, ICPR 2020: smoothness of the foreground. From memory.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part, kernel
from .sky_gaps import beside_of

Array = NDArray[np.float32]
EMPTY, SOLID = 0.02, 0.98
_NOTHING = np.zeros((0, 0, 4), np.float32)
GLINT = 4.0  # times the sky's light, and over 1, beyond which a pixel is like none beside it
PAIRS_FROM = 0.75  # pixels to one of the plate, from which what stays is gathered over two by two of them


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


@fast_part
def _unmixed(seen, a, behind, trust, guess):  # type: ignore[no-untyped-def]
    """What of one channel stays, were alpha right; premultiplied."""
    one, zero = np.float32(1), np.float32(0)
    clear = seen - (one - a) * behind
    if trust < one:
        clear = clear * trust + a * guess * (one - trust)
    return min(max(clear, min(seen, zero)), max(seen, zero))


@fast_kernel
def _gather_rows(first, end, pixels, alpha, sky, sure, guess, block, out):  # type: ignore[no-untyped-def]
    """Of blocks of pixels: what stays, weighted by alpha, and the square of alpha. A glint or a dead pixel speaks for
    nothing but itself."""
    height, width = alpha.shape
    zero, one, glint = np.float32(0), np.float32(1), np.float32(GLINT)
    for j in range(first, end):
        for i in range(out.shape[1]):
            red, green, blue, whole = zero, zero, zero, zero
            for y in range(block * j, min(block * j + block, height)):
                for x in range(block * i, min(block * i + block, width)):
                    a = min(max(alpha[y, x], zero), one)
                    if a == zero:
                        continue
                    trust = sure[y, x] if sure.shape[0] > 1 else one
                    r = _unmixed(pixels[y, x, 0], a, sky[y, x, 0], trust, guess[y, x, 0])
                    g = _unmixed(pixels[y, x, 1], a, sky[y, x, 1], trust, guess[y, x, 1])
                    b = _unmixed(pixels[y, x, 2], a, sky[y, x, 2], trust, guess[y, x, 2])
                    light = max(sky[y, x, 0], max(sky[y, x, 1], sky[y, x, 2]))
                    if max(abs(r), max(abs(g), abs(b))) > a * max(glint * light, one):
                        continue
                    red, green, blue, whole = red + a * r, green + a * g, blue + a * b, whole + a * a
            out[j, i, 0], out[j, i, 1], out[j, i, 2], out[j, i, 3] = red, green, blue, whole


@fast_kernel
def _remove_rows(y0, y1, pixels, alpha, sky, sure, guess, about, block, begins, strength, tint, out):  # type: ignore[no-untyped-def]
    zero, one, least = np.float32(0), np.float32(1), np.float32(1e-6)
    for y in range(y0, y1):
        j, below, fv = beside_of(y - block * begins, max(block * about.shape[0], 1), about.shape[0])
        for x in range(alpha.shape[1]):
            a = min(max(alpha[y, x], zero), one)
            soft = np.float32(4) * a * (one - a)
            trust = sure[y, x] if sure.shape[0] > 1 else one
            give = one - tint * soft
            mixed = (a > zero) & (a < one) & (about.shape[0] > 0)
            w00, w01, w10, w11, i, beside = zero, zero, zero, zero, 0, 0
            if mixed:
                i, beside, fu = beside_of(x, block * about.shape[1], about.shape[1])
                w00, w01, w10, w11 = (one - fu) * (one - fv), fu * (one - fv), (one - fu) * fv, fu * fv
                whole = w00 * about[j, i, 3] + w01 * about[j, beside, 3]
                whole += w10 * about[below, i, 3] + w11 * about[below, beside, 3]
                mixed = whole > least
                by = a / max(whole, least)
                w00, w01, w10, w11 = w00 * by, w01 * by, w10 * by, w11 * by
            for c in range(3):
                seen = pixels[y, x, c]
                clear = _unmixed(seen, a, sky[y, x, c], trust, guess[y, x, c])
                if mixed:
                    usual = w00 * about[j, i, c] + w01 * about[j, beside, c]
                    usual += w10 * about[below, i, c] + w11 * about[below, beside, c]
                    clear = usual + a * (clear - usual)
                    clear = min(max(clear, min(seen, zero)), max(seen, zero))
                out[y, x, c] = (seen * a * (one - strength) + clear * strength) * give if a > zero else zero
            out[y, x, 3] = a * give


def _gathered(pixels: Array, alpha: Array, args: tuple[Array, Array, Array], scale: float) -> tuple[Array, int, int]:
    """What stays, by pixels or by two by two of them, about what is mixed; by how many, and which its first row is."""
    block = 2 if scale >= PAIRS_FROM else 1
    mixed = np.flatnonzero(((alpha > 0) & (alpha < 1)).any(axis=1))
    if not mixed.size:
        return _NOTHING, block, 0
    first, end = max(int(mixed[0]) // block - 2, 0), min(int(mixed[-1]) // block + 3, -(-alpha.shape[0] // block))
    rows = slice(first * block, min(end * block, alpha.shape[0]))
    parts = [each[rows] if each.shape[0] > 1 else each for each in args]
    out = np.empty((end - first, -(-alpha.shape[1] // block), 4), np.float32)
    run_bands(_gather_rows, len(out), pixels[rows], alpha[rows], *parts, block, out)
    return np.asarray(cv2.GaussianBlur(out, (3, 3), 0.6, borderType=cv2.BORDER_REPLICATE), np.float32), block, first


def remove_old_sky(
    pixels: Array, alpha: Array, strength: float = 1.0, tint: float = 0.0, sky: Array | None = None,
    scale: float = 1.0, together: bool = True,
) -> Array:  # fmt: skip
    """What stays without the old sky in it.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    alpha : (h, w) float32.
    strength : 0 leaves the old sky in, 1 takes all of it out.
    tint : how much of what is hung behind shows through the rim, 0…1; the rim's alpha is lowered for it.
    sky : (h, w, 3) the sky behind every pixel where it is known; drawn inward from around by default, and where there
        is none near, what stays is guessed from its solid neighbours.
    together : what stays is found for a few pixels together: where alpha was found otherwise than by the very
        difference of a pixel's colour to what is behind it, and so is off by a little of its own.

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
    about = _gathered(pixels, alpha, args, scale) if together else (_NOTHING, 1, 0)
    run_bands(_remove_rows, alpha.shape[0], pixels, alpha, *args, *about, np.float32(strength), np.float32(tint), out)
    return out
