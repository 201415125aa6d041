"""Grain made anew from a model: noise of a given strength by level, shape and correlation between the channels.

References
----------
A. Norkin & N. Birkbeck, Film grain synthesis for AV1 video codec, DCC 2018: noise of a measured autocorrelation, scaled
by the level of the picture it is laid on. Here the noise is white noise through the filter whose own autocorrelation is
the measured one (spectral factorisation, Oppenheim & Schafer, Discrete-Time Signal Processing, 3rd edition, 5.6).
Beyond the measured lags an autocorrelation goes on as it must for no frequency to have less than no power, found by
projections in turn (A. Papoulis, A new algorithm in spectral analysis and band-limited extrapolation, IEEE Trans.
Circuits and Systems 22, 1975).
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..media.powers import coded_value, decoded_value, log2_of
from ..shot.match import GrainModel

Array = NDArray[np.float32]
LAGS = 2
_PERIOD = 32  # of the circle that a filter is found on
_HALF, _MOST_HALF = 4, 6  # taps of a filter to each side that noise is made for, and at most
NEGLIGIBLE = 1e-4  # of a filter's energy
_ROUNDS, _CLOSE = 400, 2e-3  # that lags are gone on in, and how near to the measured ones they end
_threads = ThreadPoolExecutor(3, thread_name_prefix="grain")


@lru_cache(maxsize=64)
def bent(tails: float) -> float:
    """How much of the third Hermite polynomial is added to a Gaussian to give it an excess kurtosis.

    References
    ----------
    E. A. Cornish & R. A. Fisher, Moments and cumulants in the specification of distributions, Revue de l'Institut
    International de Statistique 5 (1938); the moments are those of the sum itself, and not its first term.

    Example
    -------
    >>> bent(0.0)
    0.0
    >>> round(bent(1.0), 4)
    0.0314
    """
    c = np.linspace(0, 0.3, 301)
    line = 1 - 3 * c  # g + c (g³ − 3 g): moments of a Gaussian are 1, 3, 15, 105, 945, 10395
    square = line**2 + 6 * line * c + 15 * c**2
    fourth = 3 * line**4 + 60 * line**3 * c + 630 * line**2 * c**2 + 3780 * line * c**3 + 10395 * c**4
    return float(np.interp(tails, fourth / square**2 - 3, c))


def fine_part(kernel: Array) -> float:
    """The standard deviation of what white noise through a filter of unit energy differs by from the mean of the nine
    pixels about each.

    Example
    -------
    >>> round(fine_part(np.ones((1, 1), np.float32)), 4)
    0.9428
    """
    wide = np.pad(kernel, 1)
    return float(np.sqrt(((wide - cv2.blur(wide, (3, 3), borderType=cv2.BORDER_CONSTANT)) ** 2).sum()))


@fast_kernel
def _bent_rows(y0, y1, strength, bend, mean, out):  # type: ignore[no-untyped-def]
    """Gaussian noise, whose difference to the mean about it, of a strength, is given heavier tails."""
    one = np.float32(1)
    whole = one / np.sqrt(one + np.float32(6) * bend * bend)
    plain, cubic = (one - np.float32(3) * bend) * whole - one, bend * whole / (strength * strength)
    for y in range(y0, y1):
        row, about = out[y], mean[y]
        for x in range(np.uintp(row.shape[0])):
            fine = row[x] - about[x]
            row[x] += fine * (plain + cubic * fine * fine)


@lru_cache(maxsize=64)
def shaping(spatial: tuple[float, ...], size: float = 1.0, scale: float = 1.0) -> tuple[Array, float]:
    """The filter that gives white noise an autocorrelation, and what the noise of unit strength is left with.

    Parameters
    ----------
    spatial : 25 numbers, lags -2…2 down and across.
    size : how much larger the grain is. scale : pixels of the picture to one of the plate; below 1 each is a mean of
        those it stands for, and its noise weaker.

    Returns
    -------
    Up to (13, 13) float32 of unit energy, and the standard deviation, 0…1.
    """
    lags = _gone_on(np.array(spatial).reshape(5, 5))
    if size != 1:
        lags = _stretched(lags, size)
    power = np.maximum(np.fft.fft2(lags).real, 0)
    left = 1.0
    if scale < 1:
        f = np.fft.fftfreq(_PERIOD) * scale
        power, left = _averaged(lags, scale, f)
    root = np.fft.fftshift(np.fft.ifft2(np.sqrt(power)).real)
    middle = _PERIOD // 2
    half = next((n for n in range(_MOST_HALF) if _outside(root, middle, n) < NEGLIGIBLE), _MOST_HALF)
    kernel = root[middle - half : middle + half + 1, middle - half : middle + half + 1]
    return np.asarray(kernel / np.sqrt((kernel**2).sum()), np.float32), left


def _gone_on(table: NDArray) -> NDArray[np.float64]:
    """An autocorrelation at lags -2…2, (5, 5), on the whole circle: wide noise is alike farther off too."""
    at = np.arange(-LAGS, LAGS + 1) % _PERIOD
    known, lags = np.ix_(at, at), np.zeros((_PERIOD, _PERIOD))
    lags[known] = table
    for _ in range(_ROUNDS):
        power = np.fft.fft2(lags).real
        if power.min() >= 0:
            break
        lags = np.fft.ifft2(np.maximum(power, 0)).real
        if np.abs(lags[known] / lags[0, 0] - table).max() < _CLOSE:
            break
        lags[known] = table
    return lags


def _outside(root: NDArray, middle: int, half: int) -> float:
    """The share of a filter's energy beyond some taps from its middle."""
    inside = root[middle - half : middle + half + 1, middle - half : middle + half + 1]
    return 1 - float((inside**2).sum() / (root**2).sum())


def _stretched(lags: NDArray, size: float) -> NDArray:
    """An autocorrelation of larger grain: its lags are taken farther apart."""
    at = np.fft.fftfreq(_PERIOD, 1 / _PERIOD) / size
    centred = np.fft.fftshift(lags).astype(np.float32)
    x, y = np.meshgrid(at + _PERIOD // 2, at + _PERIOD // 2)
    return np.asarray(cv2.remap(centred, x.astype(np.float32), y.astype(np.float32), cv2.INTER_CUBIC), np.float64)


def _averaged(lags: NDArray, scale: float, f: NDArray) -> tuple[NDArray, float]:
    """The power of noise whose pixels are means over 1 / scale of the others, and its standard deviation."""
    wide = round(1 / scale)
    offsets = np.arange(-wide + 1, wide)
    weights = (wide - np.abs(offsets)) / wide**2
    out = np.zeros_like(lags)
    for j in range(-3, 4):
        for i in range(-3, 4):
            rows = (offsets + j * wide)[:, None] % _PERIOD * (np.abs(offsets + j * wide)[:, None] < _PERIOD // 2)
            columns = (offsets + i * wide)[None] % _PERIOD * (np.abs(offsets + i * wide)[None] < _PERIOD // 2)
            near = (np.abs(offsets + j * wide) < _PERIOD // 2)[:, None] & (np.abs(offsets + i * wide) < _PERIOD // 2)[
                None
            ]
            out[j % _PERIOD, i % _PERIOD] = (weights[:, None] * weights[None] * lags[rows, columns] * near).sum()
    variance = max(out[0, 0], 1e-12)
    return np.maximum(np.fft.fft2(out / variance).real, 0), float(np.sqrt(variance))


def unit_grain(
    model: GrainModel, size: tuple[int, int], seed: int, frame: int, grain_size: float = 1.0, scale: float = 1.0,
    rows: tuple[int, int] | None = None,
) -> Array:  # fmt: skip
    """Noise of unit strength as a model has it: the same for a seed and a frame at every run, another on every frame.

    Parameters
    ----------
    size : width and height of the picture. grain_size, scale : see `shaping`. rows : the first and the one after the
        last that are made, all by default.

    Returns
    -------
    (3, rows, w) float32.
    """
    first, end = (0, size[1]) if rows is None else rows
    above, below = min(first, 1), min(size[1] - end, 1)  # a row more, that means about the rims are as they would be
    first, size = first - above, (size[0], end + below - (first - above))
    filters = [shaping(model.spatial[channel], grain_size, scale) for channel in range(3)]
    out = _gaussian(model, size, first, _keys(seed, frame), filters)
    if model.tails > 0 and scale >= 1:  # means over more pixels have a Gaussian's
        bend = np.float32(bent(model.tails))
        for channel in range(3):
            mean = cv2.blur(out[channel], (3, 3))
            fine = np.float32(filters[channel][1] * fine_part(filters[channel][0]))
            run_bands(_bent_rows, size[1], fine, bend, mean, out[channel])
    return out if rows is None else np.ascontiguousarray(out[:, above : size[1] - below])


def _gaussian(
    model: GrainModel, size: tuple[int, int], first: int, keys: NDArray, filters: list[tuple[Array, float]]
) -> Array:
    """Noise as a model has it, from its `first` row on, of which each channel has its filter and its strength; its
    tails are a Gaussian's."""
    width, height = size
    out = np.empty((3, height, width), np.float32)
    if not any(model.between) and all(kernel.size == 1 for kernel, _ in filters):
        strengths = np.array([left for _, left in filters], np.float32)
        run_bands(_plain_rows, height, keys, first, strengths, out)
        return out
    half = max(_HALF, *(kernel.shape[0] // 2 for kernel, _ in filters))
    noise = [_white((height + 2 * half, width + 2 * half), first, key) for key in keys]
    rg, rb, gb = model.between
    together = np.array([[1, rg, rb], [rg, 1, gb], [rb, gb, 1]])
    values, vectors = np.linalg.eigh(together)
    mix = vectors @ np.diag(np.sqrt(np.maximum(values, 0))) @ vectors.T
    mix /= np.sqrt((mix**2).sum(axis=1, keepdims=True))

    def shaped(channel: int) -> None:
        parts = [(np.float32(mix[channel, k]), noise[k]) for k in range(3) if abs(mix[channel, k]) > 1e-6]
        alone = len(parts) == 1 and parts[0][0] == 1
        mixed = parts[0][1] if alone else np.asarray(sum(share * part for share, part in parts), np.float32)
        kernel, left = filters[channel]
        if kernel.size > 1:
            mixed = np.asarray(cv2.filter2D(mixed, -1, kernel * np.float32(left)), np.float32)
            left = 1.0
        np.multiply(mixed[half:-half, half:-half], np.float32(left), out=out[channel])

    list(_threads.map(shaped, range(3)))
    return out


def white_noise(shape: tuple[int, int], seed: int, channel: int, frame: int) -> Array:
    """White noise of unit strength: each number from its place, seed, channel and frame alone. (h, w) float32.

    References
    ----------
    G. E. P. Box & M. E. Muller, A note on the generation of random normal deviates, Annals of Mathematical Statistics
    29 (1958); uniform numbers by a hash of two multiplications (C. Wellons, Hash prospector, 2018; from memory), its
    keys by SplitMix (Steele, Lea & Flood, Fast splittable pseudorandom number generators, OOPSLA 2014).
    """
    return _white(shape, 0, _keys(seed, frame)[channel])


def _white(shape: tuple[int, int], first: int, key: np.uint64) -> Array:
    out = np.empty(shape, np.float32)
    run_bands(_white_rows, shape[0], key, first, out)
    return out


def _keys(seed: int, frame: int) -> NDArray:
    """A key for each channel."""
    return np.random.SeedSequence([seed, frame & 0xFFFFFFFF]).generate_state(3, np.uint64)


@fast_part
def _mixed(x):  # type: ignore[no-untyped-def]
    """32 bits that hang on all the bits of x."""
    x = np.uint32(x ^ (x >> np.uint32(16)))
    x = np.uint32(x * np.uint32(0x7FEB352D))
    x = np.uint32(x ^ (x >> np.uint32(15)))
    x = np.uint32(x * np.uint32(0x846CA68B))
    return np.uint32(x ^ (x >> np.uint32(16)))


@fast_part
def _normal_row(key, y, ones, others):  # type: ignore[no-untyped-def]
    """Two rows of normal numbers, by Box and Muller: a radius, and an angle within an eighth of a turn with its signs
    and its octant by two more bits."""
    z = np.uint64(key) + np.uint64(y + 1) * np.uint64(0x9E3779B97F4A7C15)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z = z ^ (z >> np.uint64(31))
    low, high = np.uint32(z & np.uint64(0xFFFFFFFF)), np.uint32(z >> np.uint64(32))
    quarter = np.float32(np.pi / 4 / 2**21)
    for k in range(np.uintp(ones.shape[0])):
        place = np.uint32(k)
        a = _mixed(np.uint32(np.uint32(place * np.uint32(0x9E3779B9)) + low))
        b = _mixed(np.uint32(np.uint32(place * np.uint32(0x85EBCA6B)) + high))
        share = (np.float32(np.int32(a >> np.uint32(8))) + np.float32(0.5)) * np.float32(2.0**-24)
        radius = np.sqrt(np.float32(-2 * np.log(2)) * log2_of(share))
        t = (np.float32(np.int32(b >> np.uint32(10))) - np.float32(2**21 - 0.5)) * quarter
        s = t * t
        sine = t * (np.float32(1) - s * (np.float32(1 / 6) - s * (np.float32(1 / 120) - s * np.float32(1 / 5040))))
        cosine = np.float32(1) - s * (
            np.float32(0.5) - s * (np.float32(1 / 24) - s * (np.float32(1 / 720) - s * np.float32(1 / 40320)))
        )
        turned = (b & np.uint32(1)) == np.uint32(1)
        flipped = (b & np.uint32(2)) == np.uint32(2)
        one, other = (sine if turned else cosine), (cosine if turned else sine)
        radius = -radius if flipped else radius
        ones[k], others[k] = radius * one, radius * other


@numba.njit(cache=True, nogil=True)
def _white_rows(y0, y1, key, first, out):  # type: ignore[no-untyped-def]
    half = (out.shape[1] + 1) // 2
    ones, others = np.empty(half, np.float32), np.empty(half, np.float32)
    for y in range(y0, y1):
        _normal_row(key, first + y, ones, others)
        out[y, :half] = ones
        out[y, half:] = others[: out.shape[1] - half]


@numba.njit(cache=True, nogil=True)
def _plain_rows(y0, y1, keys, first, strengths, out):  # type: ignore[no-untyped-def]
    """White noise in three channels."""
    half = (out.shape[2] + 1) // 2
    ones, others = np.empty(half, np.float32), np.empty(half, np.float32)
    for y in range(y0, y1):
        for c in range(3):
            _normal_row(keys[c], first + y, ones, others)
            row, left = out[c, y], strengths[c]
            for x in range(np.uintp(half)):
                row[x] = left * ones[x]
            rest = row[half:]
            for x in range(np.uintp(rest.shape[0])):
                rest[x] = left * others[x]


@lru_cache(maxsize=32)
def _tables(model: GrainModel) -> Array:
    """A model's strength by code, (3, 4097): the nearest is taken."""
    at = np.linspace(0, 1, 4097)
    return np.stack([np.interp(at, model.levels, [row[c] for row in model.deviation]) for c in range(3)]).astype(
        np.float32
    )


@fast_kernel
def _grain_rows(y0, y1, picture, noise, tables, by_level, share, out):  # type: ignore[no-untyped-def]
    """Noise is added to codes, a row at a time, its channels one after the other: what is looked up in tables is kept
    apart from what is vector code."""
    one, width = np.float32(1), np.uintp(picture.shape[1])
    last, count = np.float32(tables.shape[1] - 1), 3 * width
    codes, light, steps = np.empty(count, np.float32), np.empty(count, np.float32), np.empty(count, np.float32)
    places = np.empty(count, np.int32)
    for y in range(y0, y1):
        for x in range(width):
            light[x], light[width + x] = picture[y, x, 0], picture[y, x, 1]
            light[np.uintp(2) * width + x] = picture[y, x, 2]
        parts = share[min(y, share.shape[0] - 1)]
        for c in range(np.uintp(3)):
            own, first = noise[c, y], c * width
            for x in range(width):
                steps[first + x] = parts[x] * own[x]
        for k in range(np.uintp(count)):
            codes[k] = coded_value(light[k])
        for k in range(np.uintp(count)):
            places[k] = np.int32(min(max(codes[k], np.float32(0)), one) * last + np.float32(0.5))
        if by_level:
            for c in range(np.uintp(3)):
                table, first = tables[c], c * width
                for k in range(first, first + width):
                    steps[k] *= table[np.uintp(places[k])]
        for k in range(np.uintp(count)):
            value = decoded_value(codes[k] + steps[k])
            light[k] = value if steps[k] != np.float32(0) else light[k]
        for x in range(width):
            alpha = picture[y, x, 3]
            out[y, x, 0], out[y, x, 1] = light[x], light[width + x]
            out[y, x, 2], out[y, x, 3] = light[np.uintp(2) * width + x], alpha


_NO_TABLE = np.zeros((3, 2), np.float32)


def with_grain(picture: Array, noise: Array, model: GrainModel | None, share: Array, out: Array | None = None) -> Array:
    """A picture with grain on a share of each pixel, laid in coded values (sRGB curve).

    Parameters
    ----------
    picture : (h, w, 4) float32, scene-linear, premultiplied. noise : (3, h, w), of unit strength by a `model`, else in
        coded values. share : (h, w), or (1, w) if rows do not differ: how much of it lies on each
        pixel. out : may be the picture itself.
    """
    out = np.empty_like(picture) if out is None else out
    tables = _NO_TABLE if model is None else _tables(model)
    run_bands(_grain_rows, picture.shape[0], picture, noise, tables, model is not None, share, out)
    return out
