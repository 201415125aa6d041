"""How sharp a picture is, and what blur makes one part of a picture as soft as another.

Model: the aim's power spectrum is the zone's own, times a gain and a power of frequency (other content of the same
kind), times the squared transfer function of what was done to it, plus noise. Frequencies are compared one by one, so a
disc is known by its zeros and a motion by the direction it lies in. Noise is white, or as it was measured, or falls
with the frequency as grain and what a codec leaves do. Below a radius where a disc has zeros, edges tell more
(`edge_width`).

References
----------
Power spectra of natural pictures: Field, Relations between the statistics of natural images, JOSA A 4 (1987). Blur from
the ratio of gradients before and after a known blur: Zhuo & Sim, Defocus map estimation from a single image, Pattern
Recognition 44 (2011). Transfer functions of disc and motion: Goodman, Introduction to Fourier Optics, 6.4.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .lens import aperture

Array = NDArray[np.float32]
Kind = Literal["disc", "soft"]
Colour = Literal["white", "falling"]
TILE, SMALL_TILE = 64, 32  # pixels of the tiles that spectra are taken of
LEAST_TILES = 6
ZEROS_FROM_PX = 1.35  # from this radius on a disc has zeros that tell it
SLOPE_SPREAD = 0.12  # of the power of frequency by which two parts of a picture differ; measured on photographs
MOST_PX, MOST_MOTION_PX = 14.0, 80.0
NOISE_AT, FALL_SPREAD, MOST_FALL = 0.4, 15.0, 40.0  # cycles a pixel; of noise that falls by exp(−fall · f²)
TOLD_SPREAD = 0.5  # log power, by which noise is off that was measured
LEAST_HEARD = 0.25  # of what is as likely noise that falls as picture
REFINED: dict[Kind, int] = {"disc": 6, "soft": 2}  # starts of each kind, of different sizes
STARTS: dict[Kind, tuple[float, ...]] = {
    "disc": (0.3, 0.7, 1.0, 1.4, *np.arange(1.8, 9.0, 0.3).tolist()),
    "soft": (0.3, 0.6, 1.0, 1.5, 2.0, 3.0, 4.5),
}  # fmt: skip
MOTIONS = (0.3, 1.5, *np.arange(3.0, 14.0, 1.0).tolist(), *np.arange(14.0, 60.0, 2.0).tolist())
RADII = np.concatenate([np.arange(0, 2, 0.1), np.arange(2, MOST_PX + 0.2, 0.2)])
LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)  # ITU-R BT.709-6


class Blur(NamedTuple):
    """What makes a zone as soft as its aim.

    kind : a disc (out of focus) or a soft Gaussian. size : the disc's radius or the Gaussian's standard deviation in
    pixels. motion_px : length of a motion along the direction that was asked
    for. spread : the uncertainty of `size`. cost : how badly spectra agree, 0 at best.
    """

    kind: Kind
    size: float
    motion_px: float
    spread: float
    cost: float


def tiles_of(luma: Array, mask: NDArray | None = None, size: int = TILE) -> list[Array]:
    """Square tiles of a picture that lie wholly within a mask, half over one another. (size, size) float32 each."""
    step = size // 2
    found = []
    for j in range(0, luma.shape[0] - size + 1, step):
        for i in range(0, luma.shape[1] - size + 1, step):
            if mask is None or mask[j : j + size, i : i + size].all():
                found.append(luma[j : j + size, i : i + size])
    return found


def power_spectrum(tiles: Sequence[Array]) -> NDArray[np.float64]:
    """The mean power spectrum of the tiles with more than the usual texture, each relative to its own contrast: (size,
    size), by frequency as NumPy orders them. Tiles are windowed (Hann) and levelled."""
    return spectra_with(tiles, tiles)[0]


def spectra_with(tiles: Sequence[Array], noise: Sequence[Array]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """`power_spectrum` of tiles, and of the noise in each by itself, in the same measure."""
    size = len(tiles[0])
    window = np.outer(np.hanning(size + 2)[1:-1], np.hanning(size + 2)[1:-1])
    window /= np.sqrt((window**2).mean())
    across = np.linspace(-1, 1, size)
    scale = (across**2).mean()
    powers, noises, contrasts = [], [], []
    for tile, other in zip(tiles, noise):
        t, level = np.asarray(tile, float), max(float(tile.mean()), 1e-3)
        t = (t - t.mean()) / level
        t = t - across * ((t * across).mean() / scale) - across[:, None] * ((t * across[:, None]).mean() / scale)
        powers.append(np.abs(np.fft.fft2(t * window)) ** 2 / size**2)
        noises.append(np.abs(np.fft.fft2(np.asarray(other, float) / level * window)) ** 2 / size**2)
        contrasts.append(max(float(t.var()), 1e-9))
    weight = 1 / np.array(contrasts)
    weight *= np.array(contrasts) >= np.quantile(contrasts, 0.5)
    one, two = (np.tensordot(weight, np.array(each), 1) / weight.sum() for each in (powers, noises))
    return np.asarray(one), np.asarray(two)


@lru_cache(maxsize=1)
def _disc_transfers() -> NDArray[np.float64]:
    """Transfer functions of the discs that are applied, by radius (`RADII`) and radial frequency (0…0.75, 256)."""
    f = np.linspace(0, 0.75, 256)
    rows = []
    for radius in RADII:
        kernel = aperture(float(radius)).astype(float)
        half = kernel.shape[0] // 2
        j, i = np.mgrid[-half : half + 1, -half : half + 1]
        turns = np.radians(np.arange(0, 46, 9))
        phase = 2 * np.pi * (i.ravel()[:, None] * np.cos(turns) + j.ravel()[:, None] * np.sin(turns))
        rows.append((kernel.ravel()[:, None, None] * np.cos(phase[..., None] * f)).sum(axis=0).mean(axis=0))
    return np.array(rows)


def disc_transfer(radius_px: float, f: NDArray) -> NDArray[np.float64]:
    """Transfer function of a disc as `lens.aperture` makes it, at radial frequencies in cycles a pixel."""
    table = _disc_transfers()
    place = np.interp(np.clip(radius_px, 0, RADII[-1]), RADII, np.arange(len(RADII)))
    low = min(int(place), len(RADII) - 2)
    row = table[low] * (low + 1 - place) + table[low + 1] * (place - low)
    return np.asarray(np.interp(f, np.linspace(0, 0.75, 256), row))


def _transfer(kind: Kind, size: float, f: NDArray) -> NDArray[np.float64]:
    if kind == "disc":
        return disc_transfer(size, f)
    return np.asarray(np.exp(-2 * (np.pi * size * f) ** 2))


class _Noise(NamedTuple):
    """shape : log power by frequency, of a level of 0. falls : what is taken off, times a fall. starts : levels and
    falls that fits start from. spread : of the level, of the fall; 0 where it is free, or stays. heard : weight by
    frequency."""

    shape: NDArray
    falls: NDArray
    starts: tuple[tuple[float, float], ...]
    spread: tuple[float, float]
    heard: NDArray

    def at(self, level: float, fall: float) -> NDArray:
        """Log power by frequency."""
        return np.asarray(level + self.shape - fall * self.falls)


def _noise_like(noise: NDArray | Colour, wanted: NDArray, f: NDArray, use: NDArray[np.bool_]) -> _Noise:
    """What noise is taken to be; see `fit_spectra`."""
    falls, heard, finest = f**2 - NOISE_AT**2, np.ones_like(f), f > 0.42
    lowest = (float(np.quantile(wanted, 0.01)) - 0.7, 0.0)
    if isinstance(noise, np.ndarray):
        shape = np.log(np.maximum(_by_radius(noise)[use], 1e-20))
        level = float(np.clip(np.median((wanted - shape)[finest]), -1.5, 1.0))
        return _Noise(shape, falls, ((0.0, 0.0), (level, 0.0)), (TOLD_SPREAD, 0.0), heard)
    if noise == "white":
        return _Noise(0 * f, falls, (lowest, (float(np.median(wanted[finest])), 0.0)), (0.0, 0.0), heard)
    fine = f > 0.3
    slope, level = np.polyfit(falls[fine], wanted[fine], 1)
    fallen = float(level), float(np.clip(-slope, 0, MOST_FALL))
    like = _Noise(0 * f, falls, (lowest, fallen), (0.0, FALL_SPREAD), heard)
    clear = 1 - np.exp(np.minimum(like.at(*like.starts[1]) - wanted, 0))
    return like._replace(heard=LEAST_HEARD + (1 - LEAST_HEARD) * clear)


def _by_radius(power: NDArray) -> NDArray[np.float64]:
    """A power spectrum with the mean of its radius at each frequency: one draw of noise is rough."""
    size = len(power)
    at = np.round(np.hypot(np.fft.fftfreq(size)[None], np.fft.fftfreq(size)[:, None]) * size).astype(int)
    mean = np.bincount(at.ravel(), weights=power.ravel()) / np.maximum(np.bincount(at.ravel()), 1)
    return np.asarray(mean[at])


def fit_spectra(
    own: NDArray,
    aim: NDArray,
    direction: tuple[float, float] | None = None,
    kinds: Sequence[Kind] = ("disc", "soft"),
    most_motion_px: float = MOST_MOTION_PX,
    noise: NDArray | Colour = "white",
) -> Blur:
    """What was done to the aim, by the two spectra of `power_spectrum`.

    Parameters
    ----------
    direction : unit vector of a motion, where there may be one. most_motion_px : how long it is at most. noise : of the
        aim, (size, size) as it was measured, or what it is taken to be like.
    """
    from scipy.optimize import least_squares  # slow to import

    fx, fy = np.fft.fftfreq(len(own))[None, :], np.fft.fftfreq(len(own))[:, None]
    radial = np.hypot(fx, fy)
    use = (radial > 2.5 / len(own)) & (radial <= 0.5) & (fy >= 0)
    f, (logs, wanted) = radial[use], (np.log(np.maximum(each[use], 1e-20)) for each in (own, aim))  # flat: nothing
    along = None if direction is None else (fx * direction[0] + fy * direction[1])[use]
    slope = np.log(f / 0.1)
    lengths = (0.0,) if along is None else tuple(length for length in MOTIONS if length <= most_motion_px)
    streaks = {length: np.log(np.sinc(length * along) ** 2 + 1e-9) if along is not None else 0.0 for length in lengths}
    base = np.stack([np.ones_like(f), slope], axis=1)
    like = _noise_like(noise, wanted, f, use)
    floors = []
    for begin in like.starts:
        floor = like.at(*begin)
        certain = np.maximum(1 - np.exp(np.minimum(floor - wanted, 0)), 1e-3)  # the share that is not noise
        clean = np.log(np.maximum(np.exp(wanted) - np.exp(floor), 1e-12))
        weighed = base * certain[:, None]
        floors.append((begin, clean, np.linalg.inv(weighed.T @ base + np.diag([0, 0.5 / SLOPE_SPREAD**2])) @ weighed.T))
    priors = [(k, spread) for k, spread in ((1, SLOPE_SPREAD), (2, like.spread[0]), (3, like.spread[1])) if spread]

    def off(p: NDArray, kind: Kind) -> NDArray:
        through = _transfer(kind, p[4], f)
        if along is not None:
            through = through * np.sinc(p[5] * along)
        seen = np.logaddexp(p[0] + p[1] * slope + logs + np.log(through**2 + 1e-9), like.at(p[2], p[3]))
        return np.concatenate([2 * like.heard * np.tanh((seen - wanted) / 2), [p[k] / spread for k, spread in priors]])

    tried: list[tuple[float, Kind, list[float]]] = []
    for kind in kinds:
        for size in STARTS[kind]:
            done = logs + np.log(_transfer(kind, size, f) ** 2 + 1e-9)
            for length in lengths:
                for begin, clean, solve in floors:
                    gain, lean = solve @ np.clip(clean - done - streaks[length], -12, 12)
                    start = [float(gain), float(lean), *begin, size] + ([] if along is None else [length])
                    tried.append((float((off(np.array(start), kind) ** 2).sum()), kind, start))
    tried.sort(key=lambda each: each[0])
    best: Blur | None = None
    fall = MOST_FALL if like.spread[1] else 1e-5
    low = [-9.0, -2.0, -30.0, 0.0, 0.0] + ([] if along is None else [0.0])
    high = [9.0, 2.0, 5.0, fall, MOST_PX] + ([] if along is None else [max(most_motion_px, 1.0)])
    refined: list[tuple[float, Kind, list[float]]] = []
    for kind in kinds:  # the best starts of each kind
        by_size: dict[float, tuple[float, Kind, list[float]]] = {}
        for each in tried:
            if each[1] == kind:
                by_size.setdefault(each[2][4], each)
        refined += list(by_size.values())[: REFINED[kind]]
    for _, kind, start in refined:
        first = np.clip(start, np.array(low) + 1e-6, np.array(high) - 1e-6)
        found = least_squares(off, first, bounds=(low, high), max_nfev=40, args=(kind,))
        if best is None or found.cost < best.cost:
            inverse = np.linalg.pinv(found.jac.T @ found.jac)
            sigma = float(np.sqrt(max(inverse[4, 4], 0) * 2 * found.cost / max(len(f) - len(first), 1)))
            best = Blur(kind, float(found.x[4]), 0.0 if along is None else float(found.x[5]), sigma, found.cost)
    assert best is not None
    return best
