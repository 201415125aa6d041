"""What stays near a sky, by eight directions of colour away from it: guessed everywhere from what is seen of it alone.

Far from any sky that is all that stands out; where much may be seen through, only the extremes are. It is gathered over
blocks of pixels and spread from fine to broad, as far as there is enough of it to go by.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands, run_each
from ..media.compiled import kernel, part

Array = NDArray[np.float32]

BLOCK = 4  # pixels that what stands out is told over
BLOCKS = ((0.75, 8), (0.0, 4))  # what stays is gathered over 8 × 8 pixels of a plate, or over 4 × 4 of less than that
DIRECTIONS = np.array([[r, g, b] for r in (-1, 1) for g in (-1, 1) for b in (-1, 1)], np.float32) / np.sqrt(
    np.float32(3)
)
STANDS_OUT = 10.0  # deviations of noise from which a pixel speaks for what stays
SCALES = ((48.0, 4), (16.0, 2), (5.0, 1))  # plate pixels that what stays is smoothed over, and how coarsely
BLUR_TO = 2.5  # deviations: there a blur ends
LEAST_WEIGHT = 1e-6  # below it nothing is told
LEAST_PART = 1e-5  # of all weight: a direction that has less is told by its mean
NO_SKY = 0.05  # chance of sky up to which, far from any, all is solid
ENOUGH = 0.05  # weight that is enough to guess by
CLEAR_OF_SKY = 0.15  # share of the sky's light that a surface differs by to speak in full
EXTREME = 0.2  # weight of what may be seen through, against that of what may not


def what_stays(
    pixels: Array, sky: Array, off: Array, away: Array, most: Array, near: NDArray[np.uint8], unlike: np.float32,
    chance: Array, size: float,
) -> Array:  # fmt: skip
    """The light of what stays by direction of colour, by block of 8 × 8 pixels (4 × 4 of a proxy): (8, rows, columns,
    4), the last how much there is near by; 0 in rows far from any that may be seen through.

    Parameters
    ----------
    pixels, sky : (h, w, 3) float32, scene-linear: the picture, and the sky behind it.
    off, away : (h, w), how far a pixel is from the sky, in deviations of noise and as a share of the sky's light.
    most : (h / 4, w / 4), the most that anything near by stands out.
    near : (h, w), 1 close to sky, 2 within reach of it, 0 far off. unlike : how unlike the sky the ground is, 0…1.
    chance : (h, w), of being sky. size : pixels to one of the plate, 1 at most.
    """
    height, width = off.shape
    block = next(side for least, side in BLOCKS if size >= least)
    stands = np.zeros((len(DIRECTIONS), -(-height // block), -(-width // block), 4), np.float32)
    run_bands(
        _stand_rows, stands.shape[1], pixels, sky, off, away, most, near, unlike, chance, DIRECTIONS, block, stands
    )
    mixed = (near[::block] > 0) | (chance[::block] > np.float32(NO_SKY))
    return _spread(stands, np.asarray(mixed.any(axis=1)), size / block)


@part
def _least_about(away, y, x):  # type: ignore[no-untyped-def]
    """The least of three by three, so that what is a pixel wide says little."""
    height, width = away.shape
    least = away[y, x]
    for v in range(max(y - 1, 0), min(y + 2, height)):
        for u in range(max(x - 1, 0), min(x + 2, width)):
            least = min(least, away[v, u])
    return least


@kernel
def _stand_rows(first, end, pixels, sky, off, away, most, near, unlike, chance, directions, block, stands):  # type: ignore[no-untyped-def]
    """Per block and direction of colour: light, weighted by how far it is what stays alone.

    Far from any sky all that stands out is, and every fourth pixel tells it. Where much may be seen through only the
    extremes are, weighed by the 12th power of how much they stand out.
    """
    height, width = off.shape
    zero, one = np.float32(0), np.float32(1)
    part, coarser = one / np.float32(block * block), block // BLOCK
    for j in range(first, end):
        for i in range(stands.shape[2]):
            least = max(most[coarser * j, coarser * i], np.float32(1e-3))
            for y in range(block * j, min(block * j + block, height)):
                for x in range(block * i, min(block * i + block, width)):
                    close = near[y, x]
                    if close == 0 and (x + 2 * y) & 3:
                        continue
                    if off[y, x] <= np.float32(STANDS_OUT) or chance[y, x] > np.float32(0.8):
                        continue
                    through = one if close == 1 else unlike if close == 2 else zero
                    weight = zero
                    if through > zero:
                        a2 = min(away[y, x] / least, one) ** 2
                        a4 = a2 * a2
                        weight = through * np.float32(EXTREME) * a4 * a4 * a4 * part
                    if through < one:
                        a2 = min(_least_about(away, y, x) / np.float32(CLEAR_OF_SKY), one)
                        weight += (one - through) * a2 * a2 * part * (one if close else np.float32(4))
                    if weight <= np.float32(LEAST_WEIGHT):
                        continue
                    r, g, b = pixels[y, x, 0], pixels[y, x, 1], pixels[y, x, 2]
                    dr, dg, db = r - sky[y, x, 0], g - sky[y, x, 1], b - sky[y, x, 2]
                    each = one / (np.sqrt(dr * dr + dg * dg + db * db) + np.float32(1e-9))
                    for k in range(4):  # of each pair of opposite directions, the one that it lies in
                        m = (directions[k, 0] * dr + directions[k, 1] * dg + directions[k, 2] * db) * each
                        to = stands[k if m > zero else 7 - k, j, i]
                        m2 = m * m
                        m = m2 * m2 * m2 * weight
                        to[0] += m * r
                        to[1] += m * g
                        to[2] += m * b
                        to[3] += m


def _spread(stands: Array, wanted: NDArray[np.bool_], size: float) -> Array:
    """What stays by direction, by block: the nearest scale that has enough to go by. Its last channel is how much there
    is near by. (8, h, w, 4); 0 in rows far from what is `wanted`. size : blocks to one pixel of the plate."""
    height = stands.shape[1]
    all_of = float(stands[..., 3].sum(dtype=np.float64))
    out = np.zeros_like(stands)
    widest = 4 * round(SCALES[0][0] * size) + 8  # blocks from farther away tell nothing
    rows = _span(wanted, widest, height)

    def guessed(k: int) -> None:
        weighted = stands[k]
        total = weighted.sum(axis=(0, 1), dtype=np.float64)
        if total[3] < 1e-6:  # nothing stays in this direction
            return
        out[k, rows, :, :3] = (total[:3] / total[3]).astype(np.float32)
        if total[3] < LEAST_PART * all_of:
            return
        there = weighted[..., 3] > 0
        high = _span(there.any(axis=1), widest, height)
        high = slice(max(high.start, rows.start), min(high.stop, rows.stop))
        part = high, _span(there.any(axis=0), widest, weighted.shape[1])
        if high.start < high.stop:
            _spread_one(weighted[part], size, out[k][part])

    run_each(guessed, range(8))
    return out


def _span(there: NDArray[np.bool_], more: int, size: int) -> slice:
    """From the first that is there to the last, and `more` to each side, in whole cells of the coarsest scale."""
    found = np.flatnonzero(there)
    coarse = SCALES[0][1]
    if not found.size:
        return slice(0, 0)
    return slice(max(int(found[0]) - more, 0) // coarse * coarse, min(int(found[-1]) + 1 + more, size))


def _spread_one(weighted: Array, size: float, guess: Array) -> None:
    """Weighted light spread over places that have less of it, from coarse to fine. `guess` holds what is told of all
    together, and takes the answer."""
    height, width = weighted.shape[:2]
    lights: dict[int, NDArray] = {1: weighted}
    for coarse in sorted(coarse for _, coarse in SCALES if coarse > 1):
        shape = (max(width // coarse, 1), max(height // coarse, 1))
        lights[coarse] = cv2.resize(lights[coarse // 2], shape, interpolation=cv2.INTER_AREA)
    laid: NDArray = guess[:1, :1]
    for sigma, coarse in SCALES:
        light = lights[coarse]
        wide = max(sigma * size / coarse, 0.5)
        soft = cv2.GaussianBlur(light, (2 * round(BLUR_TO * wide) + 1,) * 2, wide)
        broader = cv2.resize(laid, light.shape[1::-1], interpolation=cv2.INTER_LINEAR)
        laid = guess if coarse == 1 else np.empty_like(light)
        _over_rows(0, len(soft), soft, broader, np.float32(ENOUGH), laid)


@kernel
def _over_rows(y0, y1, weighted, broader, enough, out):  # type: ignore[no-untyped-def]
    """A weighted mean laid over a broader guess as far as there is enough weight."""
    one = np.float32(1)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            weight = weighted[y, x, 3]
            share = min(weight / enough, one) if weight > np.float32(1e-9) else np.float32(0)
            of_mean = share / max(weight, np.float32(1e-9))
            for c in range(3):
                out[y, x, c] = broader[y, x, c] * (one - share) + weighted[y, x, c] * of_mean
            out[y, x, 3] = max(broader[y, x, 3], weight)
