"""The response at slanted edges against its closed form, and on photographs with a known blur."""

import cv2
import numpy as np
import pytest
from scipy.optimize import brentq
from scipy.signal import windows
from scipy.special import erf
from skimage import data

from zonal_mantle.match.edge_mtf import LEAST_EDGES, edge_response, responses, sharpness, tukey
from zonal_mantle.match.errors import MatchError
from zonal_mantle.match.lens import aperture
from zonal_mantle.media.curves import srgb_decode

SIZE, SAMPLES = 120, 8
WEIGHTS = np.array([0.2126, 0.7152, 0.0722], np.float32)


def slanted(sigma: float, degrees: float, noise: float = 0.0, low: float = 0.1, high: float = 0.8) -> np.ndarray:
    """An edge that a Gaussian made soft, seen by square pixels: means of 8 × 8 samples of the closed form."""
    place = (np.arange(SIZE * SAMPLES) + 0.5) / SAMPLES - SIZE / 2
    turn = np.radians(degrees)
    distance = place[None] * np.cos(turn) - place[:, None] * np.sin(turn)
    fine = 0.5 * (1 + erf(distance / np.sqrt(2) / sigma))
    seen = fine.reshape(SIZE, SAMPLES, SIZE, SAMPLES).mean((1, 3)) * (high - low) + low
    return (seen + np.random.default_rng(int(10 * degrees)).normal(0, noise, seen.shape)).astype(np.float32)


def true_mtf50(sigma: float, degrees: float) -> float:
    """Where the product of the pixel's and the Gaussian's transfer falls to a half (Goodman, Fourier Optics, 6.4)."""
    turn = np.radians(degrees)

    def above(f: float) -> float:
        pixel = np.sinc(f * np.cos(turn)) * np.sinc(f * np.sin(turn))
        return float(pixel * np.exp(-2 * (np.pi * sigma * f) ** 2) - 0.5)

    return brentq(above, 1e-3, 1.0)


def along(degrees: float) -> tuple[float, float, float, float]:
    """Roughly along that edge, as somebody draws it."""
    lean = np.tan(np.radians(degrees))
    return (60 - 45 * lean + 0.8, 15, 60 + 45 * lean - 0.6, 105)


@pytest.mark.parametrize("degrees", [3, 5, 12, 20, 38])
@pytest.mark.parametrize("sigma", [0.3, 0.5, 1.0, 2.0, 3.5])
def test_mtf50_of_an_analytic_edge(sigma: float, degrees: float):
    found = edge_response(slanted(sigma, degrees), along(degrees))
    assert found.mtf50 == pytest.approx(true_mtf50(sigma, degrees), rel=0.02)
    assert found.overshoot < 0.01
    noisy = edge_response(slanted(sigma, degrees, noise=0.01), along(degrees))
    assert noisy.mtf50 == pytest.approx(true_mtf50(sigma, degrees), rel=0.05)
    x0, y0, x1, y1 = along(degrees)
    turned = edge_response(np.ascontiguousarray(1 - slanted(sigma, degrees).T), (y0, x0, y1, x1))
    assert turned.mtf50 == pytest.approx(true_mtf50(sigma, degrees), rel=0.03)


@pytest.mark.parametrize("amount", [0.3, 0.8])
def test_overshoot_of_a_sharpened_edge(amount: float):
    soft = slanted(1.2, 7)
    sharp = soft + np.float32(amount) * (soft - cv2.GaussianBlur(soft, (0, 0), 1.5))
    rows = [sharp[k] for k in range(20, 100)]
    true = np.mean([(row.max() - 0.8) / 0.7 for row in rows])
    found = edge_response(sharp, along(7))
    assert found.overshoot == pytest.approx(true, rel=0.2, abs=0.01)
    assert found.mtf50 > true_mtf50(1.2, 7)


def test_the_found_edges_of_a_picture_tell_the_same():
    for sigma in (0.5, 1.5, 3.0):
        a, b, c, d = (slanted(sigma, degrees) for degrees in (5, 12, 20, 38))
        four = np.vstack([np.hstack([a, b]), np.hstack([c, d])])
        found = sharpness(four)
        assert found.edges >= LEAST_EDGES
        assert found.mtf50 == pytest.approx(true_mtf50(sigma, 12), rel=0.06)
        assert found.error < 0.1 * found.mtf50


@pytest.mark.parametrize("name", ["astronaut", "camera"])
def test_photographs_that_are_out_of_focus_are_read_so(name: str):
    """Photographs of scikit-image (astronaut: NASA, public domain; camera: CC0) with a known disc. Its own transfer
    falls to a half at 0.352 / radius cycles a pixel (2 J1(x) / x = 0.5 at x = 2.215; from memory)."""
    picture = getattr(data, name)()
    coded = (picture if picture.ndim == 2 else picture[..., :3] @ WEIGHTS).astype(np.float32) / 255
    light = np.ascontiguousarray(srgb_decode(coded), np.float32)
    read = [sharpness(light).mtf50]
    for radius in (2.0, 4.0):
        read.append(sharpness(np.asarray(cv2.filter2D(light, -1, aperture(radius)), np.float32)).mtf50)
        assert read[-1] == pytest.approx(0.352 / radius, rel=0.25)
    assert read[0] > 1.5 * read[1] > 2 * read[2]


@pytest.mark.parametrize(
    ("picture", "why"),
    [
        (np.full((100, 100), 0.4, np.float32), "no step|Too little"),
        (slanted(0.5, 12).T.copy(), "step|straight|even"),  # the line lies across it
        (np.random.default_rng(1).random((120, 120)).astype(np.float32), "step|straight|even"),
        (np.full((120, 120), np.nan, np.float32), "Too little"),
    ],
)
def test_what_is_no_edge_is_said(picture: np.ndarray, why: str):
    with pytest.raises(MatchError, match=why):
        edge_response(picture, along(12))
    with pytest.raises(MatchError, match="Too few"):
        sharpness(picture if np.isfinite(picture).all() and picture.std() < 0.31 else np.zeros((50, 50), np.float32))


def test_only_pixels_of_the_mask_count():
    seen, mask = slanted(0.5, 12), np.zeros((SIZE, SIZE), bool)
    with pytest.raises(MatchError):
        edge_response(seen, along(12), mask)
    assert responses(seen, mask) == []
    mask[30:90] = True
    assert edge_response(seen, along(12), mask).mtf50 == pytest.approx(true_mtf50(0.5, 12), rel=0.04)


@pytest.mark.parametrize("share", [0.2, 0.4, 1.0])
def test_the_window_is_tukeys(share: float):
    """SciPy's; Harris, On the use of windows for harmonic analysis, Proc. IEEE 66 (1978)."""
    assert np.allclose(tukey(41, share), windows.tukey(41, share), atol=1e-12)


def test_what_is_not_finite_does_not_count_and_lines_outside_are_said():
    seen = slanted(0.5, 12)
    seen[np.random.default_rng(3).random(seen.shape) < 0.02] = np.nan
    assert edge_response(seen, along(12)).mtf50 == pytest.approx(true_mtf50(0.5, 12), rel=0.04)
    for line in ((-50, -50, -20, -20), (200, 10, 230, 90), (10, 200, 30, 260), (np.nan, 0, 10, 10), (5, 5, 5, 5)):
        with pytest.raises(MatchError, match=r"outside|Too little"):
            edge_response(seen, line)
    for picture in (np.full((60, 60), np.nan, np.float32), np.zeros((3, 3), np.float32), np.zeros((0, 0), np.float32)):
        assert responses(picture) == []
