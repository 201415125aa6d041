"""Which blur is chosen, and what is said of how far off it may be, on photographs that scikit-image ships.

The references are SciPy's Gaussian and a disc by its definition; noise is NumPy's.
"""

import cv2
import numpy as np
import pytest
from scipy import ndimage
from skimage import data

from zonal_mantle.match.blur_told import Tried, as_radius, blur_by_edges, is_unsure, tried_blurs, widening
from zonal_mantle.match.edge_width import edge_widths, edges_of, radius_by_edges, sharpening_by_edges, wider_by
from zonal_mantle.match.sharpness import LUMA, Blur, power_spectrum, tiles_of
from zonal_mantle.media.curves import srgb_decode

SHARP = Blur("disc", 0.0, 0.0, 0.0, 0.0)


def halves(name: str, height: int = 400) -> tuple[np.ndarray, np.ndarray]:
    luma = srgb_decode(getattr(data, name)().astype(float) / 255)[:height] @ LUMA
    middle = luma.shape[1] // 2
    return np.float32(luma[:, :middle]), np.float32(luma[:, middle : 2 * middle])


def disc(radius: float) -> np.ndarray:
    """A disc by its definition, each pixel by 16 × 16 of its places."""
    half = int(np.ceil(radius))
    at = (np.arange((2 * half + 1) * 16) + 0.5) / 16 - half - 0.5
    covered = (np.hypot(at[:, None], at[None]) <= radius).reshape(2 * half + 1, 16, 2 * half + 1, 16).mean(axis=(1, 3))
    return covered / covered.sum()


def noisy(luma: np.ndarray, amount: float, seed: int = 1) -> np.ndarray:
    noise = np.random.default_rng(seed).normal(0, amount, luma.shape)
    return np.float32(luma + noise * np.sqrt(np.maximum(luma, 0.02)))


def told(own: np.ndarray, aim: np.ndarray, noise: float):
    tried = tried_blurs(power_spectrum(tiles_of(own)), power_spectrum(tiles_of(aim)), ["white", "falling"], None, 0.0)
    return blur_by_edges(tried, own, None, edges_of(aim, None, noise))


@pytest.mark.parametrize(
    ("name", "radius", "amount"),
    [("astronaut", 3.3, 0.005), ("coffee", 6.0, 0.005), ("rocket", 6.0, 0.05), ("astronaut", 6.0, 0.05)],
)
def test_what_is_found_is_within_what_is_said(name, radius, amount):
    own, other = halves(name)
    found = told(own, noisy(ndimage.convolve(other, disc(radius), mode="reflect"), amount), amount)
    off = abs(as_radius(found.blur) - radius)
    assert off < 2 * found.spread_px() * (1 if found.blur.kind == "disc" else 2)
    assert off < 0.1 * radius or amount > 0.01


def test_a_disc_that_is_told_by_its_zeros_is_sure_and_one_that_is_not_is_not():
    own, other = halves("coffee")
    clear = told(own, noisy(ndimage.convolve(other, disc(4.0), mode="reflect"), 0.004), 0.004)
    assert clear.has_zeros
    assert clear.spread_px() < 0.5
    soft = told(own, noisy(ndimage.gaussian_filter(other, 2.0), 0.03), 0.03)
    assert not soft.has_zeros
    assert soft.spread_px() > 2 * clear.spread_px()


@pytest.mark.parametrize("amount", [0.0, 0.02])
def test_edges_are_as_wide_as_their_blur_under_noise_too(amount):
    """Bars with hard edges: a Gaussian of 1.5 px leaves edges whose deviation is its own."""
    steps = np.kron(np.random.default_rng(2).random((10, 14)), np.ones((24, 24))).astype(np.float32)
    soft = np.float32(ndimage.gaussian_filter(steps, 1.5))
    assert np.median(edge_widths(soft)) == pytest.approx(1.5, rel=0.12)
    edges = edges_of(noisy(soft, amount), None, amount)
    assert abs(wider_by(steps, None, edges, [Blur("soft", 1.5, 0.0, 0.0, 0.0)])[0]) < 0.08
    assert radius_by_edges(steps, None, edges_of(np.float32(ndimage.convolve(steps, disc(1.4))), None, 0.0)) == (
        pytest.approx(1.4, abs=0.15)
    )


def test_edges_that_drown_in_noise_tell_nothing():
    """A wide blur under much noise: its crests are those of the noise, which are narrow."""
    own, other = halves("coffee")
    drowned = edges_of(noisy(np.float32(cv2.GaussianBlur(other, (0, 0), 12)), 0.2), None, 0.2)
    assert len(drowned.widths) == 0
    assert widening(own, None, drowned) is None
    clear = edges_of(noisy(other, 0.01), None, 0.01)
    assert widening(own, None, clear)[0] == pytest.approx(0, abs=0.3)


def test_a_sharp_picture_under_noise_is_not_sharpened():
    """Crests of the noise were taken for edges that are sharper than the picture's."""
    _, other = halves("astronaut")
    soft = np.float32(ndimage.gaussian_filter(other, 1.0))
    edges = edges_of(noisy(soft, 0.05), None, 0.05)
    assert sharpening_by_edges(soft, None, edges) < 0.35


def test_a_blur_that_noise_hides_is_refused():
    """Edges that are much softer than any blur that the spectra tell."""
    own, _ = halves("coffee", 200)
    edges = edges_of(np.float32(ndimage.gaussian_filter(own, 4.0)), None, 0.001)
    narrow = [Tried(0.0, Blur(kind, 0.4, 0.0, 0.01, 100.0)) for kind in ("disc", "soft")]
    with pytest.raises(ValueError, match="cannot be told"):
        blur_by_edges(narrow, own, None, edges)
    right = [*narrow, Tried(0.0, Blur("soft", 4.0, 0.0, 0.01, 100.0))]
    assert blur_by_edges(right, own, None, edges).blur.size == 4.0


def test_candidates_that_disagree_make_it_uncertain():
    """Nothing is known of the edges: what else explains the spectra as well may be right."""
    nothing = edges_of(np.full((100, 100), 0.4, np.float32), None, 0.0)
    alike = [Tried(0.0, Blur(kind, size, 0.0, 0.01, 9.0)) for kind, size in (("disc", 3.0), ("soft", 1.5))]
    assert blur_by_edges(alike, np.zeros((100, 100), np.float32), None, nothing).spread_px() < 0.5
    apart = [Tried(0.0, Blur(kind, size, 0.0, 0.01, 9.0)) for kind, size in (("disc", 3.0), ("soft", 3.0))]
    found = blur_by_edges(apart, np.zeros((100, 100), np.float32), None, nothing)
    assert found.spread_px() > 1.8
    assert is_unsure(found.blur.size, found.spread_px())
    flat = [Tried(0.0, Blur("disc", 0.0, 0.0, 1e5, 9.0))] * 2  # of no blur, spectra do not tell the size's slope
    assert blur_by_edges(flat, np.zeros((100, 100), np.float32), None, nothing).spread_px() < 2


@pytest.mark.parametrize("name", ["coffee", "rocket"])
def test_a_motion_is_told_beside_the_focus_or_said_not_to_be(name):
    """A line of 8 px is told; one of 2 px within a focus of 4 px is not, whatever length is found."""
    own, other = halves(name)
    for length, radius in ((8, 0.0), (2, 4.0)):
        seen = ndimage.uniform_filter1d(other, length, axis=1, mode="reflect")
        seen = ndimage.convolve(seen, disc(radius), mode="reflect") if radius else seen
        aim = noisy(seen, 0.004)
        spectra = (power_spectrum(tiles_of(each)) for each in (own, aim))
        tried = tried_blurs(*spectra, ["white", "falling"], (1.0, 0.0), 12.0)
        found = blur_by_edges(tried, own, None, edges_of(aim, None, 0.004), (1.0, 0.0))
        assert abs(found.blur.motion_px - length) < 2 * found.motion_spread_px()
        assert (found.motion_spread_px() < 0.1 * length) == (length == 8)
