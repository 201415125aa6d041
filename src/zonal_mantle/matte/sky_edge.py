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
from ..media.powers import exp2_of, log2_of

Array = NDArray[np.float32]

KINDS = 53
ASIDE = 2  # pixels to each side of which the first alpha is told
MIXED = (0.02, 0.98)  # a first alpha between these, or beside one, is looked at again, and where one turns to the other
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
    return np.asarray((cv2.dilate(alpha, near) > MIXED[0]) & (cv2.erode(alpha, near) < MIXED[1]))


def _planes(looked: Looked) -> tuple[Any, ...]:
    height, width = looked.alpha.shape
    small = (max(width // QUARTER, 1), max(height // QUARTER, 1))
    quarter = cv2.resize(looked.alpha, small, interpolation=cv2.INTER_AREA)
    wide = np.stack([cv2.blur(quarter, (size, size), borderType=cv2.BORDER_REFLECT) for size in WIDE], axis=2)
    wide = np.ascontiguousarray(wide, np.float32)
    region = np.ascontiguousarray(looked.region, np.float32)
    noise = np.float32(looked.noise * NOISE_GAIN)
    pixels = np.ascontiguousarray(looked.pixels, np.float32)
    return looked.alpha, looked.off, pixels, looked.sky, looked.way, wide, region, noise


@fast_part
def _cells(places, count, size, cells, first, next_, share):  # type: ignore[no-untyped-def]
    """Of `count` places among `size`: the cells on both sides of each, and how far it lies on the way between their
    middles."""
    for n in range(count):
        u = (np.float32(places[n]) + np.float32(0.5)) * (np.float32(cells) / np.float32(size)) - np.float32(0.5)
        u = min(max(u, np.float32(0)), np.float32(cells - 1))
        i = min(np.int32(u), np.int32(max(cells - 2, 0)))
        first[n], next_[n] = np.uintp(i), np.uintp(min(i + np.int32(1), np.int32(cells - 1)))
        share[n] = u - np.float32(i)


@fast_part
def _between(grid, kinds, c, at, shares, count, out):  # type: ignore[no-untyped-def]
    """Channel `c` of `kinds` of a flat grid at `count` places: `at` holds the cells above left, above right, below left
    and below right of each, and `shares` how far down and right it is between them."""
    one, many, channel = np.float32(1), np.uintp(kinds), np.uintp(c)
    for n in range(count):
        down, right = shares[0, n], shares[1, n]
        top = grid[at[0, n] * many + channel] * (one - right) + grid[at[1, n] * many + channel] * right
        low = grid[at[2, n] * many + channel] * (one - right) + grid[at[3, n] * many + channel] * right
        out[n] = top * (one - down) + low * down


@fast_part
def _describe(rows, columns, count, alpha, off, pixels, sky, way, wide, region, noise, out):  # type: ignore[no-untyped-def]
    """What is told of `count` pixels, a column each. out (53, at least count). Gathered first, then worked on row by
    row, so that the loops become vector code."""
    height, width = alpha.shape
    one, least, most = np.float32(1), np.float32(LEAST_SHARE), np.float32(MOST_SHARE)
    flat, span = alpha.reshape(-1), 2 * ASIDE + 1
    down, aside = np.empty((span, out.shape[1]), np.uintp), np.empty((span, out.shape[1]), np.uintp)
    for k in range(span):
        for n in range(count):
            down[k, n] = np.uintp(min(max(rows[n] + k - ASIDE, 0), height - 1) * width)
            aside[k, n] = np.uintp(min(max(columns[n] + k - ASIDE, 0), width - 1))
    for k in range(span):
        for m in range(span):
            row, first, second = out[span * k + m], down[k], aside[m]
            for n in range(count):
                row[n] = flat[first[n] + second[n]]
    size = out.shape[1]
    above, under, shares = np.empty((2, size), np.uintp), np.empty((2, size), np.uintp), np.empty((2, size), np.float32)
    at = np.empty((4, size), np.uintp)
    for grid in range(2):
        gh, gw = (wide.shape[0], wide.shape[1]) if grid == 0 else (region.shape[0], region.shape[1])
        _cells(rows, count, height, gh, above[0], above[1], shares[0])
        _cells(columns, count, width, gw, under[0], under[1], shares[1])
        for k in range(4):
            line, place = above[k >> 1], under[k & 1]
            for n in range(count):
                at[k, n] = line[n] * np.uintp(gw) + place[n]
        if grid == 0:
            for c in range(3):
                _between(wide.reshape(-1), 3, c, at, shares, count, out[48 + c])
        else:
            _between(region.reshape(-1), 1, 0, at, shares, count, out[51])
    for n in range(count):
        out[52, n] = noise
    behind = np.empty((3, out.shape[1]), np.float32)
    flat_off, seen, sky_of = off.reshape(-1), pixels.reshape(-1), sky.reshape(-1)
    for side in range(5):
        lower, right = (side == 2) - (side == 1), (side == 4) - (side == 3)
        distance = out[25 + side]
        red, green, blue = out[30 + 3 * side], out[31 + 3 * side], out[32 + 3 * side]
        line, place = down[ASIDE + lower], aside[ASIDE + right]
        for n in range(count):
            here = line[n] + place[n]
            distance[n] = flat_off[here]
            here *= np.uintp(3)
            a, b = here + np.uintp(1), here + np.uintp(2)
            red[n], green[n], blue[n] = seen[here], seen[a], seen[b]
            behind[0, n], behind[1, n], behind[2, n] = sky_of[here], sky_of[a], sky_of[b]
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
    """One layer, what is below 0 left out, four inputs and two outputs at a time. told (inputs, n), out (outputs, n);
    outputs come in twos."""
    inputs = weights.shape[0]
    whole = inputs - inputs % 4
    for o in range(0, weights.shape[1], 2):
        row, next_ = out[o], out[o + 1]
        for n in range(count):
            row[n], next_[n] = offsets[o], offsets[o + 1]
        for k in range(0, whole, 4):
            a, b, c, d = weights[k, o], weights[k + 1, o], weights[k + 2, o], weights[k + 3, o]
            e, f, g, h = weights[k, o + 1], weights[k + 1, o + 1], weights[k + 2, o + 1], weights[k + 3, o + 1]
            p, q, r, s = told[k], told[k + 1], told[k + 2], told[k + 3]
            for n in range(count):
                row[n] += a * p[n] + b * q[n] + c * r[n] + d * s[n]
                next_[n] += e * p[n] + f * q[n] + g * r[n] + h * s[n]
        for k in range(whole, inputs):
            a, e, p = weights[k, o], weights[k, o + 1], told[k]
            for n in range(count):
                row[n] += a * p[n]
                next_[n] += e * p[n]
        for n in range(count):
            row[n], next_[n] = max(row[n], np.float32(0)), max(next_[n], np.float32(0))


@fast_part
def _settle(rows, columns, count, told, hidden, last, offset, near, out):  # type: ignore[no-untyped-def]
    """The corrected alpha of `count` pixels. What may be seen through only since it looks like it, far from sky by
    place and by region, is not lowered."""
    one = np.float32(1)
    logits = np.full(hidden.shape[1], offset, np.float32)
    for k in range(hidden.shape[0]):
        weight, row = last[k, 0], hidden[k]
        for n in range(count):
            logits[n] += row[n] * weight
    for n in range(count):
        first = min(max(told[12, n], np.float32(FIRST[0])), np.float32(FIRST[1]))
        logit = min(max(logits[n], np.float32(-30)), np.float32(30))
        odds = first / (one - first) * exp2_of(logit * np.float32(1 / LOG2))
        answer = (odds / (one + odds) - np.float32(EMPTY)) / np.float32(SOLID - EMPTY)
        logits[n] = min(max(answer, np.float32(0)), one)
    for n in range(count):
        answer = logits[n]
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
    kinds, again = np.empty(width + 2, np.uint8), np.empty(width, np.uint8)
    low, high = np.float32(MIXED[0]), np.float32(MIXED[1])
    count = 0
    for y in range(y0, y1):
        above, below = alpha[max(y - 1, 0)], alpha[min(y + 1, height - 1)]
        here, distance = alpha[y], off[y]
        for x in range(width):  # 1: some of it stays, 2: some of it goes, 3: both
            a, b, c = above[x], here[x], below[x]
            stays, goes = (a > low) | (b > low) | (c > low), (a < high) | (b < high) | (c < high)
            kinds[x + 1] = np.uint8(stays) + np.uint8(2) * np.uint8(goes)
        kinds[0], kinds[width + 1] = kinds[1], kinds[width]
        for x in range(width):
            seen = kinds[x] | kinds[x + 1] | kinds[x + 2]
            again[x] = np.uint8(seen == np.uint8(3)) & np.uint8(distance[x] > empty)
        for x in range(width):
            if again[x]:
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
