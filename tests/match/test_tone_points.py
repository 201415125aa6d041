"""What points tell of a tone: Student's distribution and moments against SciPy, known changes of photographs' light."""

import numpy as np
import pytest
from scipy.integrate import quad
from scipy.stats import t as student
from skimage import data

from zonal_mantle.match import tone_points
from zonal_mantle.match.tone_points import points_of, told_by_points
from zonal_mantle.media.curves import srgb_decode

NAMES = ("astronaut", "coffee", "chelsea", "rocket")


def halves(name: str) -> tuple[np.ndarray, np.ndarray]:
    picture = srgb_decode(getattr(data, name)()[::2, ::2] / 255.0).astype(np.float32)
    middle = picture.shape[1] // 2
    return picture[:, :middle], picture[:, middle:]


def points(picture: np.ndarray) -> tone_points.Points:
    return points_of([(np.ascontiguousarray(picture, np.float32), np.ones(picture.shape[:2], np.float32))])


def test_a_witness_says_what_students_distribution_says():
    witness, off = tone_points.Student(2.3, 0.4, 0.0, 1.0), np.linspace(-3, 3, 25)
    said = tone_points._says(witness, off, 1.0)
    true = student.logpdf(off, 2.3, scale=0.4)
    np.testing.assert_allclose(said - said[12], true - true[12], atol=1e-12)


def test_the_move_of_a_colour_is_the_mean_of_all_witnesses_and_what_is_usual():
    """Integrated by SciPy instead of over a grid."""
    own, aim = (points(half) for half in halves("chelsea"))
    told = told_by_points(own, aim, 0.4)
    by = 0.4 / tone_points.USUAL_APART

    def likely(stops: float) -> float:
        value = float(tone_points._usual(np.array(stops), tone_points.USUAL_STOPS[2]))
        for k, (_, witness) in enumerate(tone_points.COLOURS):
            value += float(tone_points._says(witness, aim.colours[k, 1] - own.colours[k, 1] - stops, by))
        return float(np.exp(value))

    whole, first = quad(likely, -2, 2, limit=400)[0], quad(lambda v: v * likely(v), -2, 2, limit=400)[0]
    mean = first / whole
    variance = quad(lambda v: (v - mean) ** 2 * likely(v), -2, 2, limit=400)[0] / whole
    saturated = (np.exp(told.wider[1]) - 1) * own.middle[2]
    assert told.move[2] - saturated == pytest.approx(mean, abs=2e-3)
    assert told.off_move[2] == pytest.approx(np.sqrt(variance), abs=2e-3)


@pytest.mark.parametrize("name", NAMES)
def test_the_points_of_one_picture_follow_its_light(name):
    dim = halves(name)[0] * np.float32(0.3) + np.float32(0.02)  # nothing clipped, nothing black
    gains = np.array([1.3, 1.0, 0.8], np.float32)
    before, after = points(dim), points(dim * gains)
    wanted = np.log2(1.3 / 0.8)
    np.testing.assert_allclose((after.colours - before.colours)[:, 0], wanted, atol=0.06)
    brighter = points(dim * np.float32(2))
    np.testing.assert_allclose(brighter.lightness - before.lightness, 1, atol=0.05)
    assert brighter.spread == pytest.approx(before.spread, abs=0.03)


def test_points_of_halves_lie_nearer_together_than_their_means():
    """On photographs that no scale was measured on."""
    by_points, by_means = [], []
    for name in NAMES:
        one, other = (points(half) for half in halves(name))
        by_points.append([other.lightness[-1] - one.lightness[-1], other.colours[0, 0] - one.colours[0, 0]])
        by_means.append((other.middle - one.middle)[:2])
    nearer = np.abs(by_points).mean(axis=0) / np.abs(by_means).mean(axis=0)
    assert (nearer < 0.7).all(), nearer


def test_white_that_is_clipped_says_no_more_than_that_it_is_as_bright():
    own = points(halves("coffee")[0] * np.float32(0.5))
    aim = own._replace(lightness=own.lightness.copy(), clipped=False)
    aim.lightness[-1] -= 1.0  # white alone is a stop lower
    darker = told_by_points(own, aim, 0.1)
    as_bright = told_by_points(own, aim._replace(clipped=True), 0.1)
    assert darker.move[0] < as_bright.move[0] - 0.03
    assert as_bright.move[0] == pytest.approx(0, abs=0.05)


def test_a_lamp_in_one_half_moves_it_by_little():
    one, other = halves("coffee")
    lit = other.copy()
    lit[20:30, 20:30] = 60.0  # an EXR's lamp: 0.3 % of the picture
    plain, lamp = (told_by_points(points(one), points(half), 0.2) for half in (other, lit))
    assert abs(lamp.move[0] - plain.move[0]) < 0.25


def test_what_is_alike_is_told_more_surely():
    own, aim = (points(half) for half in halves("coffee"))
    alike, unlike = (told_by_points(own, aim, apart) for apart in (0.08, 0.5))
    assert (unlike.off_move > 1.2 * alike.off_move).all()


@pytest.mark.parametrize("value", [0.0, 1.0, 5e4])
def test_pictures_of_one_value_give_finite_points(value):
    flat = points(np.full((12, 12, 3), value, np.float32))
    told = told_by_points(flat, points(halves("coffee")[0]), 0.2)
    assert all(np.isfinite(part).all() for part in told)


def test_what_lies_outside_is_no_point_of_a_shape():
    picture = np.ascontiguousarray(halves("astronaut")[0])
    inside = np.zeros(picture.shape[:2], np.float32)
    inside[40:200, 30:110] = 1
    inside[60:90, 50:70] = 0
    black, white = (np.where(inside[..., None] > 0, picture, np.float32(value)) for value in (0, 9))
    for one, other in zip(points_of([(black, inside)]), points_of([(white, inside)])):
        np.testing.assert_array_equal(one, other)
    grey = points_of([(np.where(inside[..., None] > 0, np.float32(0.2), black * 0), inside)])
    np.testing.assert_allclose(grey.lightness, grey.middle[0], atol=0.01)  # its rim is not darker


def test_a_part_that_has_holes_all_over_has_points():
    picture = np.ascontiguousarray(halves("chelsea")[0])
    dotted = np.full(picture.shape[:2], 0.8, np.float32)  # made smaller, each pixel is part hole
    for one, other in zip(points_of([(picture, dotted)]), points(picture)):
        np.testing.assert_allclose(one, other, atol=1e-4)
