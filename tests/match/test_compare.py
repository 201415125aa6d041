"""Differences of colour, and the fit of a tone."""

from itertools import permutations

import numpy as np
import pytest
from scipy.linalg import sqrtm
from skimage import data

from zonal_mantle.match.compare import compare, delta_e_2000
from zonal_mantle.match.tone import LOG_SCALE
from zonal_mantle.match.tone_fit import fit_palette, fit_tone, log_codes, monge_kantorovich
from zonal_mantle.media.curves import srgb_decode

# published: Sharma, Wu & Dalal 2005, table 1: L* a* b* of both and the difference
PAIRS = np.array([
    [50.0, 2.6772, -79.7751, 50.0, 0.0, -82.7485, 2.0425], [50.0, 3.1571, -77.2803, 50.0, 0.0, -82.7485, 2.8615],
    [50.0, 2.8361, -74.0200, 50.0, 0.0, -82.7485, 3.4412], [50.0, -1.3802, -84.2814, 50.0, 0.0, -82.7485, 1.0],
    [50.0, -1.1848, -84.8006, 50.0, 0.0, -82.7485, 1.0], [50.0, -0.9009, -85.5211, 50.0, 0.0, -82.7485, 1.0],
    [50.0, 0.0, 0.0, 50.0, -1.0, 2.0, 2.3669], [50.0, -1.0, 2.0, 50.0, 0.0, 0.0, 2.3669],
    [50.0, 2.49, -0.001, 50.0, -2.49, 0.0009, 7.1792], [50.0, 2.49, -0.001, 50.0, -2.49, 0.001, 7.1792],
    [50.0, 2.49, -0.001, 50.0, -2.49, 0.0011, 7.2195], [50.0, 2.49, -0.001, 50.0, -2.49, 0.0012, 7.2195],
    [50.0, -0.001, 2.49, 50.0, 0.0009, -2.49, 4.8045], [50.0, -0.001, 2.49, 50.0, 0.001, -2.49, 4.8045],
    [50.0, -0.001, 2.49, 50.0, 0.0011, -2.49, 4.7461], [50.0, 2.5, 0.0, 50.0, 0.0, -2.5, 4.3065],
    [50.0, 2.5, 0.0, 73.0, 25.0, -18.0, 27.1492], [50.0, 2.5, 0.0, 61.0, -5.0, 29.0, 22.8977],
    [50.0, 2.5, 0.0, 56.0, -27.0, -3.0, 31.9030], [50.0, 2.5, 0.0, 58.0, 24.0, 15.0, 19.4535],
    [50.0, 2.5, 0.0, 50.0, 3.1736, 0.5854, 1.0], [50.0, 2.5, 0.0, 50.0, 3.2972, 0.0, 1.0],
    [50.0, 2.5, 0.0, 50.0, 1.8634, 0.5757, 1.0], [50.0, 2.5, 0.0, 50.0, 3.2592, 0.3350, 1.0],
    [60.2574, -34.0099, 36.2677, 60.4626, -34.1751, 39.4387, 1.2644],
    [63.0109, -31.0961, -5.8663, 62.8187, -29.7946, -4.0864, 1.2630],
    [61.2901, 3.7196, -5.3901, 61.4292, 2.2480, -4.9620, 1.8731],
    [35.0831, -44.1164, 3.7933, 35.0232, -40.0716, 1.5901, 1.8645],
    [22.7233, 20.0904, -46.6940, 23.0331, 14.9730, -42.5619, 2.0373],
    [36.4612, 47.8580, 18.3852, 36.2715, 50.5065, 21.2231, 1.4146],
    [90.8027, -2.0831, 1.4410, 91.1528, -1.6435, 0.0447, 1.4441],
    [90.9257, -0.5406, -0.9208, 88.6381, -0.8985, -0.7239, 1.5381],
    [6.7747, -0.2908, -2.4247, 5.8714, -0.0985, -2.2286, 0.6377],
    [2.0776, 0.0795, -1.1350, 0.9033, -0.0636, -0.5514, 0.9082],
])  # fmt: skip


def test_differences_are_those_of_the_published_pairs():
    assert delta_e_2000(PAIRS[:, :3], PAIRS[:, 3:6]) == pytest.approx(PAIRS[:, 6], abs=1e-4)


def blocks(picture: np.ndarray, n: int = 6) -> list[np.ndarray]:
    rows = np.array_split(picture, n, axis=0)
    return [part.reshape(-1, 3) for row in rows for part in np.array_split(row, n, axis=1)]


def test_a_picture_against_itself_is_no_difference_and_twice_as_bright_is_a_stop():
    picture = np.random.default_rng(0).uniform(0.02, 0.4, (500, 3))
    same = compare(picture, picture)
    assert same.worst == 0
    assert compare(2 * picture, picture).stops == pytest.approx([1.0] * 5, abs=1e-6)


def test_the_palette_map_carries_means_and_covariances():
    # published: Pitié & Kokaram 2007; reference library: scipy.linalg.sqrtm
    rng = np.random.default_rng(4)
    a, b = (np.cov((rng.normal(size=(400, 3)) @ rng.normal(size=(3, 3))).T) for _ in range(2))
    m_a, m_b = rng.normal(size=3), rng.normal(size=3)
    matrix = np.array(monge_kantorovich(m_a, a, m_b, b)).reshape(3, 4)
    root = np.real(sqrtm(a))
    expected = np.linalg.inv(root) @ np.real(sqrtm(root @ b @ root)) @ np.linalg.inv(root)
    assert matrix[:, :3] == pytest.approx(expected, abs=1e-5)
    assert matrix[:, :3] @ m_a + matrix[:, 3] == pytest.approx(m_b)
    assert matrix[:, :3] @ a @ matrix[:, :3].T == pytest.approx(b, abs=1e-5)


def test_things_that_are_unlike_are_not_taken_for_a_tone():
    rng = np.random.default_rng(1)
    own, aim = (rng.uniform(0.1, 0.1 + span, (60, 60, 3)) for span in (0.2, 0.35))
    assert fit_tone(blocks(own), blocks(aim)).moved_stops == 0
    assert fit_tone(blocks(own), blocks(60 * aim)).moved_stops > 1  # more than things of one scene differ


def test_photographs_of_unlike_things_keep_their_white():
    """Without a drawn aim: what a scene is made of is no tint. Coffee before a rocket's night sky was made 1.4 stops
    cooler."""
    pictures = {
        name: blocks(srgb_decode(getattr(data, name)()[::2, ::2, :3] / 255))
        for name in ("astronaut", "coffee", "chelsea", "rocket")
    }
    for own, aim in permutations(pictures, 2):
        fit = fit_tone(pictures[own], pictures[aim])
        assert (fit.moved_stops, fit.contrast, fit.saturation) == (0, 1, 1)
        assert abs(fit.cooler_stops) < 0.35
        assert abs(fit.greener_stops) < 0.1


def test_what_becomes_greener_is_told_in_stops():
    picture = np.random.default_rng(2).uniform(0.1, 0.3, (60, 60, 3))
    fit = fit_tone(blocks(picture), blocks(picture * (1, 16, 1)))
    grey = np.append(log_codes(np.full(3, 0.18)), 1)
    red, green, blue = np.reshape(fit.matrix, (3, 4)) @ grey * LOG_SCALE
    assert fit.greener_stops == pytest.approx(green - (red + blue) / 2)
    assert 0.05 < fit.greener_stops < 4


@pytest.mark.parametrize(
    ("own", "words"),
    [
        ([np.full((10, 3), 0.2)] * 5, "too small"),
        ([np.full((500, 3), 0.2)] * 6, "of one colour"),
        ([np.minimum(np.linspace(0.1, 4, 1500).reshape(500, 3), 1.0)] * 6, "clipped"),
    ],
)
def test_what_cannot_be_compared_is_refused(own, words):
    aim = blocks(np.random.default_rng(2).uniform(0, 1, (60, 60, 3)))
    for fit in (fit_tone, fit_palette):
        with pytest.raises(ValueError, match=words):
            fit(own, aim)
        with pytest.raises(ValueError, match=words):
            fit(aim, own)
