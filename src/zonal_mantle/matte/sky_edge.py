"""The second look at the edge of a sky: a perceptron that was taught what mixtures look like among their neighbours.

Unmixing pixel by pixel (`sky_matte`) cannot tell a pale leaf from a dark one that is seen through: one equation, two
unknowns. Its neighbours tell: a mixture lies between what is sky and what stays. So a perceptron of two hidden layers
looks at the first alpha of five by five pixels, at how far the pixel and the four beside it lie from the sky (in noise
and in light, each channel as a share of the sky's), at the way from the sky to what stays near by, at how much stays
round about, and at the noise. It corrects the logit of the first alpha, on the edge alone. It was taught by
`tools/region/teach_edge.py` on plates that were made with their alpha, by what an error would show before another sky;
none of the pictures that it is measured on was among them.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..media.powers import log2_of

Array = NDArray[np.float32]

KINDS = 53
ASIDE = 2  # pixels to each side of which the first alpha is told
MIXED = (0.02, 0.98)  # a first alpha between these, or beside one, is looked at again
STEP = 0.3  # so is a step of it
QUARTER = 4
WIDE = (3, 5, 9)  # quarter-size pixels over which it is told how much stays
MOST_OFF, LEAST_SHARE, MOST_SHARE = 200.0, -1.5, 3.0
NOISE_GAIN = 20.0
LOG2 = 0.6931472
FIRST = (0.01, 0.99)  # the first alpha is held within before its logit is taken
EMPTY, SOLID = 0.02, 0.97  # answers that are nothing and all
NO_SKY = 0.05  # chance of sky
BLOCK = 64  # pixels looked at together


@dataclass(frozen=True)
class Looked:
    """What the first look leaves: all float32.

    alpha (h, w) : the first alpha.
    off (h, w), pixels (h, w, 3), sky (h, w, 3) : distance from the sky in deviations of noise; the picture, and the sky
        behind it, scene-linear.
    way (h, w, 3) : from the sky to what stays near by, scene-linear; 0 where nothing is mixed.
    near (h, w) uint8 : 1 close to sky, 2 within reach of it.
    region : the chance of sky, at the working size.
    noise : the sky's, coded.
    """

    alpha: Array
    off: Array
    pixels: Array
    sky: Array
    way: Array
    near: NDArray[np.uint8]
    region: Array
    noise: float


def second_look(looked: Looked, empty: float) -> Array:
    """Alpha (h, w) after the second look. What lies within `empty` deviations of the sky stays empty, and ground that
    is not close to any sky loses nothing."""
    taught = _taught()
    out = looked.alpha.copy()
    nets = tuple(taught[name] for name in ("weights0", "offsets0", "weights1", "offsets1", "weights2", "offsets2"))
    run_bands(_look_rows, len(out), *_planes(looked), looked.near, np.float32(empty), nets, out)
    return out


def described(looked: Looked, rows: NDArray[np.int64], columns: NDArray[np.int64]) -> Array:
    """What is told of some pixels: (n, 53)."""
    out = np.empty((KINDS, len(rows)), np.float32)
    _describe_all(rows, columns, *_planes(looked), out)  # type: ignore[call-arg]
    return np.ascontiguousarray(out.T)


def looked_again(alpha: Array) -> NDArray[np.bool_]:
    """Where a second look is taken: what is mixed, what is beside it, and steps. (h, w)."""
    near = np.ones((3, 3), np.uint8)
    mixed = ((alpha > MIXED[0]) & (alpha < MIXED[1])).astype(np.uint8)
    return (cv2.dilate(mixed, near) > 0) | (cv2.dilate(alpha, near) - cv2.erode(alpha, near) > STEP)


def _planes(looked: Looked) -> tuple[Any, ...]:
    height, width = looked.alpha.shape
    small = (max(width // QUARTER, 1), max(height // QUARTER, 1))
    quarter = cv2.resize(looked.alpha, small, interpolation=cv2.INTER_AREA)
    wide = np.stack([cv2.blur(quarter, (size, size), borderType=cv2.BORDER_REFLECT) for size in WIDE], axis=2)
    wide = np.ascontiguousarray(wide, np.float32)
    region = np.ascontiguousarray(looked.region, np.float32)
    noise = np.float32(looked.noise * NOISE_GAIN)
    return looked.alpha, looked.off, looked.pixels, looked.sky, looked.way, wide, region, noise


@fast_part
def _cell(x, width, cells):  # type: ignore[no-untyped-def]
    half = np.float32(0.5)
    u = (np.float32(x) + half) * np.float32(cells) / np.float32(width) - half
    u = min(max(u, np.float32(0)), np.float32(cells - 1))
    i = min(int(u), max(cells - 2, 0))
    return i, min(i + 1, cells - 1), np.float32(u - np.float32(i))


@fast_part
def _describe(rows, columns, count, alpha, off, pixels, sky, way, wide, region, noise, out):  # type: ignore[no-untyped-def]
    """What is told of `count` pixels, a column each. out (53, at least count). Gathered first, then worked on row by
    row, so that the loops become vector code."""
    height, width = alpha.shape
    one, least, most = np.float32(1), np.float32(LEAST_SHARE), np.float32(MOST_SHARE)
    for n in range(count):
        y, x = rows[n], columns[n]
        k = 0
        for dy in range(-ASIDE, ASIDE + 1):
            line = alpha[min(max(y + dy, 0), height - 1)]
            for dx in range(-ASIDE, ASIDE + 1):
                out[k, n] = line[min(max(x + dx, 0), width - 1)]
                k += 1
        j, below, fv = _cell(y, height, wide.shape[0])
        i, beside, fu = _cell(x, width, wide.shape[1])
        for c in range(3):
            top = wide[j, i, c] * (one - fu) + wide[j, beside, c] * fu
            low = wide[below, i, c] * (one - fu) + wide[below, beside, c] * fu
            out[48 + c, n] = top * (one - fv) + low * fv
        j, below, fv = _cell(y, height, region.shape[0])
        i, beside, fu = _cell(x, width, region.shape[1])
        top = region[j, i] * (one - fu) + region[j, beside] * fu
        out[51, n] = top * (one - fv) + (region[below, i] * (one - fu) + region[below, beside] * fu) * fv
        out[52, n] = noise
    behind = np.empty((3, out.shape[1]), np.float32)
    for side in range(5):
        down, right = (side == 2) - (side == 1), (side == 4) - (side == 3)
        distance = out[25 + side]
        red, green, blue = out[30 + 3 * side], out[31 + 3 * side], out[32 + 3 * side]
        for n in range(count):
            v = min(max(rows[n] + down, 0), height - 1)
            u = min(max(columns[n] + right, 0), width - 1)
            distance[n] = off[v, u]
            red[n], green[n], blue[n] = pixels[v, u, 0], pixels[v, u, 1], pixels[v, u, 2]
            behind[0, n], behind[1, n], behind[2, n] = sky[v, u, 0], sky[v, u, 1], sky[v, u, 2]
        for n in range(count):
            r, g, b = behind[0, n], behind[1, n], behind[2, n]
            light = one / (np.sqrt(r * r + g * g + b * b) + np.float32(1e-4))
            red[n] = min(max((red[n] - r) * light, least), most)
            green[n] = min(max((green[n] - g) * light, least), most)
            blue[n] = min(max((blue[n] - b) * light, least), most)
            distance[n] = log2_of(one + min(distance[n], np.float32(MOST_OFF))) * np.float32(LOG2 / 3)
        if side == 0:
            for n in range(count):
                r, g, b = behind[0, n], behind[1, n], behind[2, n]
                light = one / (np.sqrt(r * r + g * g + b * b) + np.float32(1e-4))
                for c in range(3):
                    out[45 + c, n] = min(max(way[rows[n], columns[n], c] * light, least), most)


@fast_part
def _layer(told, weights, offsets, count, out):  # type: ignore[no-untyped-def]
    """One layer, what is below 0 left out, four inputs at a time. told (inputs, n), out (outputs, n)."""
    inputs = weights.shape[0]
    whole = inputs - inputs % 4
    for o in range(weights.shape[1]):
        row = out[o]
        for n in range(count):
            row[n] = offsets[o]
        for k in range(0, whole, 4):
            a, b, c, d = weights[k, o], weights[k + 1, o], weights[k + 2, o], weights[k + 3, o]
            p, q, r, s = told[k], told[k + 1], told[k + 2], told[k + 3]
            for n in range(count):
                row[n] += a * p[n] + b * q[n] + c * r[n] + d * s[n]
        for k in range(whole, inputs):
            a, p = weights[k, o], told[k]
            for n in range(count):
                row[n] += a * p[n]
        for n in range(count):
            row[n] = max(row[n], np.float32(0))


@fast_part
def _settle(rows, columns, count, told, hidden, last, offset, near, out):  # type: ignore[no-untyped-def]
    """The corrected alpha of `count` pixels. What may be seen through only since it looks like it, far from sky by
    place and by region, is not lowered."""
    one = np.float32(1)
    for n in range(count):
        logit = offset
        for k in range(hidden.shape[0]):
            logit += hidden[k, n] * last[k, 0]
        first = min(max(told[12, n], np.float32(FIRST[0])), np.float32(FIRST[1]))
        odds = first / (one - first) * np.exp(min(max(logit, np.float32(-30)), np.float32(30)))
        answer = (odds / (one + odds) - np.float32(EMPTY)) / np.float32(SOLID - EMPTY)
        answer = min(max(answer, np.float32(0)), one)
        if near[rows[n], columns[n]] == 2 and told[51, n] <= np.float32(NO_SKY):
            answer = max(answer, told[12, n])
        out[rows[n], columns[n]] = answer


@fast_kernel
def _describe_all(rows, columns, alpha, off, pixels, sky, way, wide, region, noise, out):  # type: ignore[no-untyped-def]
    """`_describe` of all pixels."""
    _describe(rows, columns, len(rows), alpha, off, pixels, sky, way, wide, region, noise, out)


@fast_kernel
def _look_rows(y0, y1, alpha, off, pixels, sky, way, wide, region, noise, near, empty, nets, out):  # type: ignore[no-untyped-def]
    height, width = alpha.shape
    weights0, offsets0, weights1, offsets1, weights2, offsets2 = nets
    told = np.empty((KINDS, BLOCK), np.float32)
    first, second = np.empty((offsets0.size, BLOCK), np.float32), np.empty((offsets1.size, BLOCK), np.float32)
    rows, columns = np.empty(BLOCK, np.int64), np.empty(BLOCK, np.int64)
    least, most = np.empty(width + 2, np.float32), np.empty(width + 2, np.float32)
    mixed = np.empty(width + 2, np.bool_)
    low, high = np.float32(MIXED[0]), np.float32(MIXED[1])
    count = 0
    for y in range(y0, y1):
        above, below = alpha[max(y - 1, 0)], alpha[min(y + 1, height - 1)]
        here = alpha[y]
        for x in range(width):
            a, b, c = above[x], here[x], below[x]
            least[x + 1], most[x + 1] = min(a, min(b, c)), max(a, max(b, c))
            mixed[x + 1] = ((a > low) & (a < high)) | ((b > low) & (b < high)) | ((c > low) & (c < high))
        least[0], most[0], mixed[0] = least[1], most[1], mixed[1]
        least[width + 1], most[width + 1], mixed[width + 1] = least[width], most[width], mixed[width]
        for x in range(width):
            again = mixed[x] | mixed[x + 1] | mixed[x + 2]
            step = max(most[x], max(most[x + 1], most[x + 2])) - min(least[x], min(least[x + 1], least[x + 2]))
            if (again or step > np.float32(STEP)) and off[y, x] > empty:
                rows[count], columns[count] = y, x
                count += 1
            if count == BLOCK or (count > 0 and y == y1 - 1 and x == width - 1):
                _describe(rows, columns, count, alpha, off, pixels, sky, way, wide, region, noise, told)
                _layer(told, weights0, offsets0, count, first)
                _layer(first, weights1, offsets1, count, second)
                _settle(rows, columns, count, told, second, weights2, offsets2[0], near, out)
                count = 0


@lru_cache(maxsize=1)
def _taught() -> dict[str, Array]:
    """The weights; what is told is clipped nowhere at run time, so mean and spread are part of the first layer."""
    with (files(__package__) / "sky_edge.npz").open("rb") as file, np.load(file) as stored:
        return {name: np.ascontiguousarray(stored[name], np.float32) for name in stored.files}
