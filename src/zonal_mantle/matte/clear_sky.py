"""The clear-sky pull: alpha from how far each pixel lies from the fitted sky toward what stays.

The model is that of every unmixing, C = α·F + (1 − α)·S in scene-linear light (Porter & Duff 1984). The sky S is
known (`sky_fit`). What stays, F, is guessed from near by: from plain solid surfaces, and where there are none (leaves,
lattice, wires) from whatever stands out most from the sky. Then α is the share of the way from S to F that C has gone,
α = (C − S)·(F − S) / |F − S|². What lies within the plate's measured noise (Mahalanobis distance, per colour
covariance) is empty.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..media.curves import srgb_decode
from ..media.powers import coded_row
from ..shot.matte import ClearSkyPull
from .sky_fit import Sky, fit_sky

Array = NDArray[np.float32]

PLAIN = 0.77  # least over most distance from the sky, within a window, of a plain surface
WINDOW_PX = 7
BLOCK = 4  # what stays is guessed at a quarter of the size
LIKE_SKY = 0.3  # within this share of the sky's light a pixel may be seen through
SOLID = 0.98  # share of the way from sky to what stays from which a pixel is solid
NEAR_PX = 25  # beyond this from any sky all is solid


@fast_part
def _beside(x, width, cells):  # type: ignore[no-untyped-def]
    """The two cells beside a pixel's middle, and its share of the way between their middles."""
    half = np.float32(0.5)
    u = min(
        max((np.float32(x) + half) * np.float32(cells) / np.float32(width) - half, np.float32(0)), np.float32(cells - 1)
    )
    i = min(int(u), max(cells - 2, 0))
    return i, min(i + 1, cells - 1), np.float32(u - i)


@fast_part
def _spread_row(surface, y, height, width, out):  # type: ignore[no-untyped-def]
    """A row of the surface at every pixel, flat; straight between the middles of cells."""
    gh, gw = surface.shape[:2]
    j, below, fv = _beside(y, height, gh)
    one, half = np.float32(1), np.float32(0.5)
    pitch = np.float32(width) / np.float32(gw)
    start = 0
    for i in range(-1, gw):  # the stretch between the middles of cells i and i + 1
        end = width if i == gw - 1 else min(int(np.ceil((np.float32(i) + np.float32(1.5)) * pitch - half)), width)
        p, q = max(i, 0), min(i + 1, gw - 1)
        for c in range(3):
            a = surface[j, p, c] * (one - fv) + surface[below, p, c] * fv
            b = surface[j, q, c] * (one - fv) + surface[below, q, c] * fv
            step = (b - a) / pitch
            base = a + (half - (np.float32(i) + half) * pitch) * step
            for x in range(start, end):
                out[3 * x + c] = base + np.float32(x) * step
        start = max(start, end)


@fast_kernel
def _unmix_rows(y0, y1, pixels, surface, linear, whitening, off, away, sky):  # type: ignore[no-untyped-def]
    """For each pixel: distance from the sky in noise (off) and in light (away), and the sky behind it, linear."""
    height, width = off.shape
    at, least = np.uintp, np.float32(1e-8)
    w00, w01, w02 = whitening[0, 0], whitening[0, 1], whitening[0, 2]
    w10, w11, w12 = whitening[1, 0], whitening[1, 1], whitening[1, 2]
    w20, w21, w22 = whitening[2, 0], whitening[2, 1], whitening[2, 2]
    feed, row = np.empty(3 * width, np.float32), np.empty(3 * width, np.float32)
    for y in range(y0, y1):
        seen, behind = pixels[y].reshape(-1), sky[y].reshape(-1)
        coded_row(seen, feed)
        _spread_row(surface, y, height, width, row)
        _spread_row(linear, y, height, width, behind)
        off_row, away_row = off[y], away[y]
        for x in range(at(width)):
            k = at(3) * x
            dr, dg, db = feed[k] - row[k], feed[k + at(1)] - row[k + at(1)], feed[k + at(2)] - row[k + at(2)]
            p, q, s = w00 * dr + w01 * dg + w02 * db, w10 * dr + w11 * dg + w12 * db, w20 * dr + w21 * dg + w22 * db
            off_row[x] = np.sqrt(p * p + q * q + s * s)
            sr, sg, sb = behind[k], behind[k + at(1)], behind[k + at(2)]
            dr, dg, db = seen[k] - sr, seen[k + at(1)] - sg, seen[k + at(2)] - sb
            light = sr * sr + sg * sg + sb * sb
            away_row[x] = np.sqrt((dr * dr + dg * dg + db * db) / max(light, least))


@fast_kernel
def _weight_rows(first, end, pixels, off, away, plain, stands, solid):  # type: ignore[no-untyped-def]
    """At quarter size: light weighted by how much it stands out from the sky, and light of plain surfaces."""
    height, width = off.shape
    least, zero, one = np.float32(10), np.float32(0), np.float32(1)
    part = np.float32(1 / (BLOCK * BLOCK))
    for j in range(first, end):
        for i in range(stands.shape[1]):
            sr, sg, sb, s, pr, pg, pb, p = zero, zero, zero, zero, zero, zero, zero, zero
            for y in range(BLOCK * j, min(BLOCK * j + BLOCK, height)):
                for x in range(BLOCK * i, min(BLOCK * i + BLOCK, width)):
                    if off[y, x] <= least:
                        continue
                    r, g, b = pixels[y, x, 0], pixels[y, x, 1], pixels[y, x, 2]
                    a = min(away[y, x], one)
                    a2 = a * a
                    a4 = a2 * a2
                    weight = a4 * a4 * a4 * part  # the 12th power: what stands out most speaks for what stays
                    sr += weight * r
                    sg += weight * g
                    sb += weight * b
                    s += weight
                    if plain[y, x] & 1:
                        pr += part * r
                        pg += part * g
                        pb += part * b
                        p += part
            stands[j, i, 0], stands[j, i, 1], stands[j, i, 2], stands[j, i, 3] = sr, sg, sb, s
            solid[j, i, 0], solid[j, i, 1], solid[j, i, 2], solid[j, i, 3] = pr, pg, pb, p


@fast_kernel
def _alpha_rows(y0, y1, pixels, sky, off, plain, near, fore, empty, full, out):  # type: ignore[no-untyped-def]
    """The share of the way from the sky to what stays, held down within the noise."""
    height, width = off.shape
    gh, gw = fore.shape[:2]
    zero, one, bend, solid = np.float32(0), np.float32(1), np.float32(0.92), np.float32(SOLID)
    for y in range(y0, y1):
        j, below, fv = _beside(y, height, gh)
        for x in range(width):
            if off[y, x] <= empty:
                out[y, x] = zero
                continue
            if plain[y, x] >= 2 or not near[y, x]:
                out[y, x] = one
                continue
            i, beside, fu = _beside(x, width, gw)
            along, length = zero, np.float32(1e-6)
            for c in range(3):
                top = fore[j, i, c] * (one - fu) + fore[j, beside, c] * fu
                low = fore[below, i, c] * (one - fu) + fore[below, beside, c] * fu
                way = top * (one - fv) + low * fv - sky[y, x, c]
                along += (pixels[y, x, c] - sky[y, x, c]) * way
                length += way * way
            alpha = min(max(along / length, zero), one)
            if alpha > bend:  # nearly solid is solid: what stays is never quite of one colour
                alpha = min(bend + (alpha - bend) * (one - bend) / (solid - bend), one)
            rise = min((off[y, x] - empty) / max(full - empty, np.float32(1e-3)), one)
            out[y, x] = alpha * rise * rise * (np.float32(3) - np.float32(2) * rise)


def _foreground(stands: Array, solid: Array, scale: float) -> Array:
    """What stays, guessed everywhere at quarter size: the nearest scale that has enough to go by."""
    height, width = stands.shape[:2]
    guess: Array | None = None
    for sigma, coarse in ((64.0, 4), (32.0, 2), (12.0, 1)):
        size = (max(width // coarse, 1), max(height // coarse, 1))
        small = cv2.resize(stands, size, interpolation=cv2.INTER_AREA) if coarse > 1 else stands
        soft = cv2.GaussianBlur(small, (0, 0), max(sigma * scale / BLOCK / coarse, 0.5))
        soft = cv2.resize(soft, (width, height), interpolation=cv2.INTER_LINEAR) if coarse > 1 else soft
        guess = _over(guess, soft, 0.02)
    return _over(guess, cv2.GaussianBlur(solid, (0, 0), max(3 * scale / BLOCK, 0.5)), 0.05)


def _over(guess: Array | None, weighted: NDArray, enough: float) -> Array:
    out = np.empty((*weighted.shape[:2], 3), np.float32)
    bare = guess is None
    run_bands(_over_rows, out.shape[0], out if guess is None else guess, bare, weighted, np.float32(enough), out)
    return out


@fast_kernel
def _over_rows(y0, y1, guess, bare, weighted, enough, out):  # type: ignore[no-untyped-def]
    """A weighted mean laid over a coarser guess as far as there is enough weight."""
    zero, one, least = np.float32(0), np.float32(1), np.float32(1e-9)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            weight = weighted[y, x, 3]
            share = min(weight / enough, one)
            for c in range(3):
                colour = weighted[y, x, c] / weight if weight > least else zero
                out[y, x, c] = colour if bare else guess[y, x, c] * (one - share) + colour * share


def clear_sky(
    pixels: Array, pull: ClearSkyPull, frame: float = 0, scale: float = 1.0, sky: Sky | None = None
) -> tuple[Array, Array]:
    """Pulls a matte from the difference to the fitted sky.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    scale : proxy scale, for areas and windows that are given in plate pixels.
    sky : the sky if it was fitted before (or carried by a lock); fitted here by default.

    Returns
    -------
    (h, w) float32 alpha 0…1 of what stays, and (h, w, 3) float32 the sky behind it, scene-linear.

    Raises
    ------
    MatteError : no sky is found.
    """
    height, width = pixels.shape[:2]
    sky = sky or fit_sky(pixels, pull, scale)
    linear = np.ascontiguousarray(srgb_decode(np.maximum(sky.surface, 0)), np.float32)
    off, away, behind = away_from(sky, linear, pixels)
    plain = plain_surfaces(off, away, scale)
    reach = max(5, round(2 * NEAR_PX * min(scale, 1)) | 1)
    near = cv2.dilate(((off < 6) | (away < LIKE_SKY)).astype(np.uint8), np.ones((1, reach), np.uint8))
    near = cv2.dilate(near, np.ones((reach, 1), np.uint8))
    stands = np.empty((-(-height // BLOCK), -(-width // BLOCK), 4), np.float32)
    solid = np.empty_like(stands)
    run_bands(_weight_rows, stands.shape[0], pixels, off, away, plain, stands, solid)
    fore = _foreground(stands, solid, min(scale, 1))
    out = np.empty((height, width), np.float32)
    limits = np.float32(pull.empty.at(frame)), np.float32(pull.full.at(frame))
    run_bands(_alpha_rows, height, pixels, behind, off, plain, near, fore, *limits, out)
    return out, behind


def away_from(sky: Sky, linear: Array, pixels: Array) -> tuple[Array, Array, Array]:
    """Each pixel's distance from the sky in noise, (h, w), and in light, as a share of the sky's, (h, w); and the sky
    behind it, scene-linear, (h, w, 3). `linear` is the sky's surface in scene-linear light."""
    height, width = pixels.shape[:2]
    off, away = np.empty((height, width), np.float32), np.empty((height, width), np.float32)
    behind = np.empty((height, width, 3), np.float32)
    run_bands(_unmix_rows, height, pixels, sky.surface, linear, sky.whitening, off, away, behind)
    return off, away, behind


def plain_surfaces(off: Array, away: Array, scale: float) -> NDArray[np.uint8]:
    """1 in the midst of plain surfaces, which are all as far from the sky; 2 over all of their inside."""
    window = max(3, round(WINDOW_PX * min(scale, 1)) | 1)
    across, down = np.ones((1, window), np.uint8), np.ones((window, 1), np.uint8)
    codes = np.empty(away.shape, np.uint8)
    run_bands(_code_rows, away.shape[0], off, away, codes)  # what is near the sky is coded 0
    calm = cv2.GaussianBlur(codes, (0, 0), max(0.7 * min(scale, 1), 0.3))
    least = cv2.erode(cv2.erode(cv2.copyTo(calm, codes), across), down)  # 0 where the code is
    most = cv2.dilate(cv2.dilate(calm, across), down)
    core = np.empty(least.shape, np.uint8)
    run_bands(_core_rows, core.shape[0], least, most, core)
    inner = max(window - 2, 1)
    inside = cv2.dilate(cv2.dilate(core, np.ones((1, inner), np.uint8)), np.ones((inner, 1), np.uint8))
    return np.asarray(cv2.scaleAdd(inside, 2, core))


@fast_kernel
def _code_rows(y0, y1, off, away, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            value = min(away[y, x], np.float32(1)) * np.float32(254) + np.float32(1)
            out[y, x] = np.uint8(value) if off[y, x] > np.float32(8) else np.uint8(0)


@fast_kernel
def _core_rows(y0, y1, least, most, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            low, high = np.float32(least[y, x]), np.float32(most[y, x])
            out[y, x] = np.uint8(1) if low > np.float32(PLAIN) * high else np.uint8(0)
