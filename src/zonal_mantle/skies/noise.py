"""Noise: power-law clouds made in the frequency domain, so that they tile."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float32]


def clouds(rng: np.random.Generator, shape: tuple[int, int], slope: float = 1.8, stretch: float = 1.0) -> Array:
    """Periodic noise whose amplitude falls as frequency ** -slope.

    Parameters
    ----------
    rng : source of randomness.
    shape : (h, w).
    slope : steepness of the spectrum; 1 is rough, 2 is smooth.
    stretch : how many times longer the features are across than up.

    Returns
    -------
    (h, w) float32, mean 0, standard deviation 1.
    """
    h, w = shape
    fy = np.fft.fftfreq(h)[:, None] * h
    fx = np.fft.rfftfreq(w)[None, :] * w * (h / w) * stretch
    radius = np.hypot(fy, fx)
    radius[0, 0] = 1.0
    amplitude = radius**-slope
    amplitude[0, 0] = 0.0
    phase = rng.uniform(0, 2 * np.pi, radius.shape)
    field = np.fft.irfft2(amplitude * np.exp(1j * phase), s=shape)
    field -= field.mean()
    return (field / max(float(field.std()), 1e-9)).astype(np.float32)


def profile(rng: np.random.Generator, count: int, slope: float = 1.4) -> Array:
    """One-dimensional periodic noise of `count` samples, mean 0, standard deviation 1."""
    frequency = np.fft.rfftfreq(count) * count
    frequency[0] = 1.0
    amplitude = frequency**-slope
    amplitude[0] = 0.0
    line = np.fft.irfft(amplitude * np.exp(1j * rng.uniform(0, 2 * np.pi, frequency.shape)), n=count)
    return (line / max(float(line.std()), 1e-9)).astype(np.float32)


def smoothstep(low: float, high: float, x: Array) -> Array:
    """Hermite ramp from 0 at `low` to 1 at `high`."""
    t = np.clip((x - low) / (high - low), 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)
