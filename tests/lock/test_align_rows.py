"""The kernels of alignment against the formulas written out in NumPy, and SciPy's sampling."""

import numpy as np
import pytest
from scipy import ndimage

from zonal_mantle.lock import align_rows

GAIN, UNIT = 0.9, 40.0


@pytest.fixture
def pair():
    """An area, a view of it, weights, and the area's slopes."""
    rng = np.random.default_rng(4)
    pixels, view = (ndimage.gaussian_filter(rng.random((60, 90)), 1.5).astype(np.float32) for _ in range(2))
    across, down = np.zeros_like(pixels), np.zeros_like(pixels)
    across[:, 1:-1], down[1:-1] = (pixels[:, 2:] - pixels[:, :-2]) / 2, (pixels[2:] - pixels[:-2]) / 2
    return pixels, view, rng.random((60, 90)).astype(np.float32), across, down


def test_normal_equations_are_those_of_the_formula(pair):
    """Second-order minimisation for a homography (Benhimane & Malis 2004), with gain and bias (Baker & Matthews)."""
    pixels, view, weight, across, down = pair
    frame = tuple(np.float32(v) for v in (44.5, 29.5, UNIT))
    sums = np.zeros((64, 11, 11))
    for rows in ((0, 25), (25, 60)):  # as shared out
        align_rows.normal_rows(*rows, pixels, across, down, view, weight, np.float32(GAIN), frame, sums)
    v, u = ((np.mgrid[0:60, 0:90] - np.array([29.5, 44.5])[:, None, None]) / UNIT).astype(float)
    own = np.gradient(view.astype(float))
    gx, gy = UNIT * (GAIN * across + own[1]) / 2, UNIT * (GAIN * down + own[0]) / 2
    along = gx * u + gy * v
    columns = [gx * u, gx * v, gx, gy * u, gy * v, gy, -along * u, -along * v, -pixels, -np.ones_like(gx), view]
    inside = np.s_[1:-1, 1:-1]
    dense = np.stack([column[inside].ravel() for column in columns], axis=1).astype(float)
    expected = dense.T @ (dense * weight[inside].reshape(-1, 1))
    size = np.sqrt(np.outer(np.diag(expected), np.diag(expected)))
    assert np.abs(np.triu(sums.sum(axis=0) - expected) / size).max() < 1e-6


def test_what_is_outside_is_clear_and_what_is_inside_is_sampled(pair):
    """Against SciPy's cubic spline, which on a soft picture differs from cubic convolution by little."""
    feed = ndimage.gaussian_filter(pair[0], 2.0)
    matrix = np.array([[1.02, 0.05, -6.3], [-0.04, 0.98, 4.7], [2e-4, -1e-4, 1.0]])
    out, seen = np.empty((50, 100), np.float32), np.empty((50, 100), np.float32)
    align_rows.sample_rows(0, 50, feed, matrix, out, seen)
    y, x = np.mgrid[0:50, 0:100]
    p, q, z = np.tensordot(matrix, np.stack([x, y, np.ones_like(x)]), axes=1)
    p, q = p / z, q / z
    inside = (p >= 1) & (q >= 1) & (p < 88) & (q < 58)
    assert 0.3 < inside.mean() < 0.95
    np.testing.assert_array_equal(seen > 0, inside)
    assert np.all(out[~inside] == 0)
    expected = ndimage.map_coordinates(feed, [q, p], order=3, mode="mirror")
    assert np.abs(out - expected)[inside].max() < 0.01 * np.ptp(feed)


def cubic(feed: np.ndarray, p: np.ndarray, q: np.ndarray) -> np.ndarray:
    """Cubic convolution at places of a picture (Keys 1981, a = -1/2), written out."""
    out = np.zeros(p.shape)
    for i in range(-1, 3):
        for j in range(-1, 3):
            x, y = np.floor(p).astype(int) + i, np.floor(q).astype(int) + j
            out += kernel_of(np.abs(p - x)) * kernel_of(np.abs(q - y)) * feed[y, x]
    return out


def kernel_of(far: np.ndarray) -> np.ndarray:
    near = (1.5 * far - 2.5) * far * far + 1
    return np.where(far < 1, near, np.where(far < 2, ((-0.5 * far + 2.5) * far - 4) * far + 2, 0))


@pytest.mark.parametrize(("turn", "grow"), [(0.0, 1.0), (0.004, 1.003), (-0.02, 0.99), (0.3, 1.2)])
def test_what_is_read_in_runs_is_what_is_read_pixel_by_pixel(pair, turn, grow):
    """From hardly a turn, where rows are read as they lie, to one where no two pixels lie side by side."""
    c, s = grow * np.cos(turn), grow * np.sin(turn)
    matrix = np.array([[c, -s, 8.3], [s, c, 5.6], [1e-5, -2e-5, 1.0]])
    out, seen = np.empty((2, 40, 60), np.float32)
    for rows in ((0, 13), (13, 40)):
        align_rows.sample_rows(*rows, pair[0], matrix, out, seen)
    y, x = np.mgrid[0:40, 0:60]
    p, q, z = np.tensordot(matrix, np.stack([x, y, np.ones_like(x)]), axes=1)
    inside = seen > 0
    assert inside.mean() > 0.5
    assert np.abs(out[inside] - cubic(pair[0].astype(float), (p / z)[inside], (q / z)[inside])).max() < 1e-5


def test_slopes_of_what_is_left_over_are_looked_at_on_every_third_pixel(pair):
    rest, weight = pair[1:3]
    counted = weight[1:-1:3, 1:-1:3] > 0.5
    out = np.empty((2, np.count_nonzero(counted)), np.float32)
    align_rows.thirds(rest, weight, out)
    there = [np.abs(np.gradient(rest.astype(float), axis=axis))[1:-1:3, 1:-1:3][counted] for axis in (1, 0)]
    np.testing.assert_allclose(out, there, atol=1e-6)


def test_blocks_are_summed_each_by_itself(pair):
    _, view, weight, across, down = pair
    inside = np.ones_like(weight)
    xs, ys = np.array([0, 30, 90]), np.array([0, 20, 60])
    sums = np.zeros((2, 2, 6))
    align_rows.block_sums(inside, weight, view, across, down, xs, ys, sums)
    part = np.s_[20:60, 30:90]
    gx, gy, w, r = (each[part].astype(float) for each in (across, down, weight, view))
    expected = [(w * gx * gx).sum(), (w * gx * gy).sum(), (w * gy * gy).sum(), (w * gx * r).sum(), (w * gy * r).sum()]
    np.testing.assert_allclose(sums[1, 1, :5], expected, rtol=1e-4, atol=1e-4)
    np.testing.assert_allclose(sums[1, 1, 5], (gx * gx + gy * gy).sum(), rtol=1e-4)
