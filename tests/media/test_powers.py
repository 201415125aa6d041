"""The kernels' own logarithm and power, against NumPy in double precision."""

import numba
import numpy as np
import pytest

from zonal_mantle.media import powers
from zonal_mantle.media.compiled import FAST


@numba.njit(fastmath=FAST, error_model="numpy")
def run(kind, x, exponent, out):
    for k in range(x.shape[0]):
        if kind == 0:
            out[k] = powers.log2_of(x[k])
        elif kind == 1:
            out[k] = powers.exp2_of(x[k])
        else:
            out[k] = powers.power_of(x[k], exponent)


def over(kind: int, x: np.ndarray, exponent: float = 1.0) -> np.ndarray:
    out = np.empty_like(x)
    run(kind, x, np.float32(exponent), out)
    return out.astype(np.float64)


@pytest.fixture
def wide() -> np.ndarray:
    """From 2^-20 to 2^16, with whole powers of two and what lies just beside √2 times them."""
    x = np.exp2(np.random.default_rng(3).uniform(-20, 16, 40000))
    edges = np.exp2(np.arange(-20.0, 16.0))
    return np.concatenate([x, edges, edges * np.sqrt(2) * (1 - 1e-7), edges * np.sqrt(2) * (1 + 1e-7)]).astype(
        np.float32
    )


def test_the_logarithm_is_within_float_rounding(wide):
    # reference library: NumPy, float64
    exact = np.log2(wide.astype(np.float64))
    assert np.abs(over(0, wide) - exact).max() < 2.5e-6  # of up to 20: the last place there is 1.9e-6
    near = np.abs(exact) < 1
    assert np.abs(over(0, wide) - exact)[near].max() < 2e-7


def test_two_to_the_power_is_within_float_rounding():
    x = np.random.default_rng(4).uniform(-60, 60, 40000).astype(np.float32)
    assert np.abs(over(1, x) / np.exp2(x.astype(np.float64)) - 1).max() < 3e-7


def test_two_to_the_power_stays_finite_and_above_zero():
    ends = over(1, np.array([-1e9, -127, 128, 1e9], np.float32))
    assert np.isfinite(ends).all()
    assert (ends > 0).all()
    assert ends.argmax() >= 2


@pytest.mark.parametrize("exponent", [0.1, 1 / 2.4, 1.0, 2.2, 4.0])
def test_powers_agree_with_numpy(exponent):
    x = np.exp2(np.random.default_rng(5).uniform(-12, 6, 20000)).astype(np.float32)
    exact = x.astype(np.float64) ** np.float64(np.float32(exponent))
    assert np.abs(over(2, x, exponent) / exact - 1).max() < 4e-6


def test_what_is_not_above_zero_has_a_power_of_zero():
    assert over(2, np.array([0.0, -0.0, -3.0], np.float32), 0.5).tolist() == [0, 0, 0]
