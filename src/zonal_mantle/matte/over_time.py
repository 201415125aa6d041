"""A noisy frame averaged with those beside it, along what moves: grain goes, and what is seen of an edge stays.

Each frame beside is brought here by dense inverse search (Kroeger, Timofte, Dai & Van Gool 2016) and averaged in where
it looks alike, within the noise, over a few pixels; where something else moved, this frame stands alone. Square roots
of light are averaged, in which noise is about the same at all levels. The frames are picked by number alone, so that a
frame is the same whichever was made before it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands, run_each
from ..media.compiled import kernel

Array = NDArray[np.float32]

GRAINY = (0.009, 0.015)  # coded noise from which the frames beside are asked, and are in full
FLOW_PX = 960  # the longer side on which motion is found
CALM_PX, ALIKE_PX = 1.0, 1.2  # deviations of blurs before motion is found, and over which pictures are compared
ALIKE = 4.0  # what is further apart than this many times what noise makes of it is not averaged
OF_NOISE = 0.34  # √2 times what a blur of ALIKE_PX leaves of the noise of one pixel
BRIGHTEST = 4096.0
STRIP, ROUND = 128, 8  # rows that are worked on together, and those above and below them that a blur needs
LUMA = np.array((0.2126, 0.7152, 0.0722), np.float32)


def share_of(noise: float) -> float:
    """How far the frames beside are asked, 0…1, by a shot's noise (standard deviation, coded)."""
    return float(np.clip((noise - GRAINY[0]) / (GRAINY[1] - GRAINY[0]), 0, 1))


def averaged(pixels: Array, beside: Iterable[Array], noise: float, share: float = 1.0) -> tuple[Array, Array]:
    """A frame averaged with those beside it.

    Parameters
    ----------
    pixels : (h, w, 3) float32, scene-linear.
    beside : frames of the same size.
    noise : of a pixel, standard deviation in coded values.
    share : how far the frames beside are asked, 0…1; see `share_of`.

    Returns
    -------
    The average, scene-linear, not below 0, and by pixel how much more noise it has than where all frames were alike,
    at least 1, (h, w) float32.

    Examples
    --------
    >>> grainy = np.random.default_rng(1).normal(0.25, 0.02, (2, 64, 64, 1)).astype(np.float32).repeat(3, 3)
    >>> calm, more = averaged(grainy[0], [grainy[1]], 0.02)
    >>> bool(calm.std() < 0.8 * grainy[0].std()), calm.shape, more.shape
    (True, (64, 64, 3), (64, 64))
    """
    total, more = _averaged(pixels, beside, noise, share, _rooted)
    run_bands(_square_rows, len(total), total)
    return total, more


def averaged_codes(codes: Array, beside: Iterable[Array], noise: float, share: float = 1.0) -> tuple[Array, Array]:
    """The same of coded pictures, (h, w, 3) float32 each."""
    return _averaged(codes, beside, noise, share, np.array)


def _averaged(
    here: Array, beside: Iterable[Array], noise: float, share: float, as_codes: Callable[[Array], Array]
) -> tuple[Array, Array]:
    """Worked on in strips, so that hardly more than the result is held beside the frames. `as_codes` makes anew."""
    height, width = here.shape[:2]
    total, squares = as_codes(here), np.ones((height, width), np.float32)
    weight = np.ones((height, width), np.float32)
    fit = min(1.0, FLOW_PX / max(width, height))
    size = max(16, round(width * fit)), max(16, round(height * fit))
    seen, finder = _seen(here, size, as_codes), cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_ULTRAFAST)
    limit = np.float32((ALIKE * OF_NOISE * noise) ** 2)
    count = 1.0
    for other in beside:
        flow = finder.calc(seen, _seen(other, size, as_codes), None)  # type: ignore[call-overload]

        def add(first: int, other: Array = other, flow: Array = flow) -> None:
            end = min(first + STRIP, height)
            top, foot = max(first - ROUND, 0), min(end + ROUND, height)
            at = np.empty((foot - top, width, 2), np.float32)
            inside = np.empty((foot - top, width), np.bool_)
            low, high = _places_rows(top, flow, height, at, inside)
            brought = cv2.remap(as_codes(other[low:high]), at, None, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]
            apart = cv2.GaussianBlur(brought - as_codes(here[top:foot]), (0, 0), ALIKE_PX)
            inner = slice(first - top, end - top)
            sums = total[first:end], weight[first:end], squares[first:end]
            _add_rows(brought[inner], apart[inner], inside[inner], np.float32(share), limit, *sums)

        run_each(add, range(0, height, STRIP))
        count += share
    least = np.sqrt(1 + (count - 1) * share) / count
    run_bands(_settle_rows, height, weight, squares, np.float32(least), total)
    return total, squares


def _rooted(pixels: Array) -> Array:
    out = np.empty(pixels.shape, np.float32)
    _root_rows(pixels, out)
    return out


def _seen(picture: Array, size: tuple[int, int], as_codes: Callable[[Array], Array]) -> NDArray[np.uint8]:
    """Brightness in eight bits, calmed, at the size at which motion is found."""
    small = as_codes(np.asarray(cv2.resize(picture, size, interpolation=cv2.INTER_AREA), np.float32))
    level = np.asarray(cv2.GaussianBlur(small @ LUMA, (0, 0), max(CALM_PX * size[0] / picture.shape[1], 0.5)))
    return np.asarray(np.clip(level * 255 + 0.5, 0, 255), np.uint8)


@kernel
def _root_rows(pixels, out):  # type: ignore[no-untyped-def]
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            for c in range(3):
                value = pixels[y, x, c]
                value = value if value > np.float32(0) else np.float32(0)  # what is no number too
                out[y, x, c] = np.sqrt(min(value, np.float32(BRIGHTEST)))


@kernel
def _places_rows(top, flow, height, at, inside):  # type: ignore[no-untyped-def]
    """Where pixels of the rows from `top` on are on the other frame, by the flow between the middles of its cells, and
    whether they are in it. Returned are the first and the end of the other's rows that are needed; `at` counts from
    there."""
    half, one, zero = np.float32(0.5), np.float32(1), np.float32(0)
    tall, wide = flow.shape[:2]
    rows, width = at.shape[:2]
    right, bottom = np.float32(width - 2), np.float32(height - 2)
    least, most = np.float32(height), zero
    down, across = np.float32(height) / np.float32(tall), np.float32(width) / np.float32(wide)
    for y in range(rows):
        v = min(max((np.float32(top + y) + half) / down - half, zero), np.float32(tall - 1))
        j = min(int(v), tall - 2)
        fv = v - np.float32(j)
        for x in range(width):
            u = min(max((np.float32(x) + half) / across - half, zero), np.float32(wide - 1))
            i = min(int(u), wide - 2)
            fu = u - np.float32(i)
            w00, w01 = (one - fu) * (one - fv), fu * (one - fv)
            w10, w11 = (one - fu) * fv, fu * fv
            a, b, c, d = flow[j, i], flow[j, i + 1], flow[j + 1, i], flow[j + 1, i + 1]
            px = np.float32(x) + (a[0] * w00 + b[0] * w01 + c[0] * w10 + d[0] * w11) * across
            py = np.float32(top + y) + (a[1] * w00 + b[1] * w01 + c[1] * w10 + d[1] * w11) * down
            at[y, x, 0], at[y, x, 1] = px, py
            least, most = min(least, py), max(most, py)
            inside[y, x] = (px >= one) & (py >= one) & (px <= right) & (py <= bottom)
    low = min(max(int(np.floor(least)) - 3, 0), height - 1)
    high = max(min(int(np.floor(most)) + 5, height), low + 1)
    for y in range(rows):
        for x in range(width):
            at[y, x, 1] -= np.float32(low)
    return low, high


@kernel
def _add_rows(brought, apart, inside, share, limit, total, weight, squares):  # type: ignore[no-untyped-def]
    rows, width = weight.shape
    one, zero, tail = np.float32(1), np.float32(0), np.float32(1 / 9) / limit
    parts = np.empty(width, np.float32)
    for y in range(rows):
        for x in range(width):
            r, g, b = apart[y, x, 0], apart[y, x, 1], apart[y, x, 2]
            alike = max(one - (r * r + g * g + b * b) * tail, zero)  # (1 - d/3)³ is near to exp(-d), and ends
            parts[x] = alike * alike * alike * share * np.float32(inside[y, x])
        for x in range(width):
            part = parts[x]
            total[y, x, 0] += part * brought[y, x, 0]
            total[y, x, 1] += part * brought[y, x, 1]
            total[y, x, 2] += part * brought[y, x, 2]
            weight[y, x] += part
            squares[y, x] += part * part


@kernel
def _settle_rows(y0, y1, weight, squares, least, total):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(weight.shape[1]):
            part = np.float32(1) / weight[y, x]
            for c in range(3):
                total[y, x, c] *= part
            squares[y, x] = max(np.sqrt(squares[y, x]) * part / least, np.float32(1))


@kernel
def _square_rows(y0, y1, rooted):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(rooted.shape[1]):
            for c in range(3):
                value = max(rooted[y, x, c], np.float32(0))
                rooted[y, x, c] = value * value
