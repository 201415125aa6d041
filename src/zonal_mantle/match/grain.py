"""Grain made anew from a model: noise of a given strength by level, shape and correlation between the channels.

References
----------
A. Norkin & N. Birkbeck, Film grain synthesis for AV1 video codec, DCC 2018: noise of a measured autocorrelation, scaled
by the level of the picture it is laid on. Here the noise is white noise through the filter whose own autocorrelation is
the measured one (spectral factorisation, Oppenheim & Schafer, Discrete-Time Signal Processing, 3rd edition, 5.6).
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.powers import FAST, coded_value, power_of
from ..shot.match import GrainModel

Array = NDArray[np.float32]
LAGS = 2
_PERIOD = 32  # of the circle that a filter is found on
_HALF = 4  # taps of a filter to each side at most
NEGLIGIBLE = 1e-4  # of a filter's energy
_threads = ThreadPoolExecutor(3, thread_name_prefix="grain")


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
    Up to (9, 9) float32 of unit energy, and the standard deviation, 0…1.
    """
    lags = np.zeros((_PERIOD, _PERIOD))
    table = np.array(spatial).reshape(5, 5)
    for j in range(-LAGS, LAGS + 1):
        for i in range(-LAGS, LAGS + 1):
            lags[j % _PERIOD, i % _PERIOD] = table[j + LAGS, i + LAGS]
    if size != 1:
        lags = _stretched(lags, size)
    power = np.maximum(np.fft.fft2(lags).real, 0)
    left = 1.0
    if scale < 1:
        f = np.fft.fftfreq(_PERIOD) * scale
        power, left = _averaged(lags, scale, f)
    root = np.fft.fftshift(np.fft.ifft2(np.sqrt(power)).real)
    middle = _PERIOD // 2
    half = next((n for n in range(_HALF) if _outside(root, middle, n) < NEGLIGIBLE), _HALF)
    kernel = root[middle - half : middle + half + 1, middle - half : middle + half + 1]
    return np.asarray(kernel / np.sqrt((kernel**2).sum()), np.float32), left


def _outside(root: NDArray, middle: int, half: int) -> float:
    """The share of a filter's energy beyond some taps from its middle."""
    inside = root[middle - half : middle + half + 1, middle - half : middle + half + 1]
    return 1 - float((inside**2).sum() / (root**2).sum())


def _stretched(lags: NDArray, size: float) -> NDArray:
    """An autocorrelation of larger grain: its lags are taken farther apart."""
    at = np.fft.fftfreq(_PERIOD, 1 / _PERIOD) / size
    centred = np.fft.fftshift(lags).astype(np.float32)
    x, y = np.meshgrid(at + _PERIOD // 2, at + _PERIOD // 2)
    return np.asarray(cv2.remap(centred, x.astype(np.float32), y.astype(np.float32), cv2.INTER_LINEAR), np.float64)


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
    model: GrainModel, size: tuple[int, int], seed: int, frame: int, grain_size: float = 1.0, scale: float = 1.0
) -> Array:
    """Noise of unit strength as a model has it: the same for a seed and a frame at every run, another on every frame.

    Parameters
    ----------
    size : width and height of the picture. grain_size, scale : see `shaping`.

    Returns
    -------
    (h, w, 3) float32.
    """
    width, height = size

    def white(channel: int) -> Array:
        maker = np.random.Generator(np.random.SFC64([seed, channel, frame & 0xFFFFFFFF]))
        return maker.standard_normal((height + 2 * _HALF, width + 2 * _HALF), np.float32)

    noise = list(_threads.map(white, range(3)))
    rg, rb, gb = model.between
    together = np.array([[1, rg, rb], [rg, 1, gb], [rb, gb, 1]])
    values, vectors = np.linalg.eigh(together)
    mix = vectors @ np.diag(np.sqrt(np.maximum(values, 0))) @ vectors.T
    mix /= np.sqrt((mix**2).sum(axis=1, keepdims=True))

    def shaped(channel: int) -> Array:
        mixed = sum(np.float32(mix[channel, k]) * noise[k] for k in range(3) if abs(mix[channel, k]) > 1e-6)
        kernel, left = shaping(model.spatial[channel], grain_size, scale)
        mixed = np.asarray(mixed, np.float32)
        if kernel.size == 1:
            return np.asarray(mixed[_HALF:-_HALF, _HALF:-_HALF] * np.float32(left))
        filtered = cv2.filter2D(mixed, -1, kernel * np.float32(left))
        return np.asarray(filtered[_HALF:-_HALF, _HALF:-_HALF], np.float32)

    return np.dstack(list(_threads.map(shaped, range(3))))


@lru_cache(maxsize=32)
def _tables(model: GrainModel) -> Array:
    at = np.linspace(0, 1, 1024)
    return np.stack([np.interp(at, model.levels, [row[c] for row in model.deviation]) for c in range(3)]).astype(
        np.float32
    )


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def _grain_rows(y0, y1, picture, noise, tables, by_level, share, out):  # type: ignore[no-untyped-def]
    """Noise in codes becomes noise in light, mostly by the code's curve to its third order: one power a value."""
    one, width = np.float32(1), picture.shape[1]
    last, top = np.float32(tables.shape[1] - 1), tables.shape[1] - 2
    codes, light = np.empty(4 * width, np.float32), np.empty(4 * width, np.float32)
    first, second, third = (
        np.float32(2.4 / 1.055),
        np.float32(2.4 * 1.4 / 2 / 1.055**2),
        np.float32(2.4 * 1.4 * 0.4 / 6 / 1.055**3),
    )
    for y in range(y0, y1):
        light[:] = picture[y].reshape(-1)
        for k in range(np.uintp(4 * width)):
            codes[k] = coded_value(light[k])
        for x in range(width):
            part, k = share[y, x], 4 * x
            if part > np.float32(1e-4):
                for c in range(3):
                    code, value = codes[k + c], light[k + c]
                    step = part * noise[y, x, c]
                    if by_level:
                        place = min(max(code, np.float32(0)), one) * last
                        below = min(int(place), top)
                        low, high = tables[c, below], tables[c, below + 1]
                        step *= low + (place - np.float32(below)) * (high - low)
                    over = one / ((abs(code) + np.float32(0.055)) * np.float32(1 / 1.055))
                    t = step * over
                    if abs(t) < np.float32(0.12) and abs(code) > np.float32(0.06):
                        light[k + c] = value + (abs(value) * t) * first + value * t * t * (second + third * t)
                    else:  # where a step is no small part of the code, and about the curve's straight foot
                        code += step
                        size = abs(code)
                        high = power_of((size + np.float32(0.055)) * np.float32(1 / 1.055), np.float32(2.4))
                        new = high if size > np.float32(0.04045) else size * np.float32(1 / 12.92)
                        light[k + c] = -new if code < np.float32(0) else new
        out[y].reshape(-1)[:] = light


_NO_TABLE = np.zeros((3, 2), np.float32)


def with_grain(picture: Array, noise: Array, model: GrainModel | None, share: Array) -> Array:
    """A picture with grain on a share of each pixel, laid in coded values (sRGB curve).

    Parameters
    ----------
    picture : (h, w, 4) float32, scene-linear, premultiplied. noise : (h, w, 3), of unit strength by a `model`, else in
        coded values. share : (h, w), how much of it lies on each pixel.
    """
    out = np.empty_like(picture)
    tables = _NO_TABLE if model is None else _tables(model)
    run_bands(_grain_rows, picture.shape[0], picture, noise, tables, model is not None, share, out)
    return out
