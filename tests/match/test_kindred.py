"""A tone found from parts of one kind: on halves of photographs that scikit-image ships, in light and in ΔE2000."""

import cv2
import numpy as np
import pytest
from skimage import data

from zonal_mantle.match.compare import compare, delta_e_2000, lab
from zonal_mantle.match.grade import grade
from zonal_mantle.match.kindred import fit_kindred
from zonal_mantle.match.tone_fit import ToneFit, log_codes
from zonal_mantle.match.tone_off import ToneOff, tone_off
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.shot import Cdl, Keyed, Match, ToneMatch


def photograph(name: str) -> np.ndarray:
    codes = getattr(data, name)() / 255.0
    codes = codes[..., None] * np.array([0.9, 0.95, 0.8]) if codes.ndim == 2 else codes[..., :3]
    return srgb_decode(cv2.resize(codes, (480, 360), interpolation=cv2.INTER_AREA)).astype(np.float32)


def toned(picture: np.ndarray, stops: float, kelvin: float = 6504, contrast: float = 1.0) -> np.ndarray:
    tone = ToneMatch(exposure_stops=k(stops), temperature_k=k(kelvin), contrast=k(contrast), cdl=Cdl())
    return grade(picture, Match(tone=tone)).astype(np.float32)


def k(value: float) -> Keyed:
    return Keyed(constant=value)


def part(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    return np.ascontiguousarray(picture), np.ones(picture.shape[:2], bool)


def carried(fit: ToneFit, picture: np.ndarray) -> np.ndarray:
    matrix = np.reshape(fit.matrix, (3, 4))
    codes = log_codes(picture) @ matrix[:, :3].T + matrix[:, 3]
    return np.where(codes > 0.155, 2 ** (codes * 17.52 - 9.72), (codes - 0.0729) / 10.54)


def fitted(own: np.ndarray, aim: np.ndarray) -> np.ndarray:
    """The zone after the fit; as it was where the fit is refused."""
    try:
        return carried(fit_kindred([part(own)], [part(aim)]), own)
    except ValueError:
        return own


def off(picture: np.ndarray, truth: np.ndarray) -> float:
    return float(delta_e_2000(lab(np.clip(picture, 0, 1)), lab(np.clip(truth, 0, 1))).mean())


@pytest.mark.parametrize("name", ["grass", "gravel", "brick"])
def test_a_known_tone_is_found_on_another_part_of_a_texture(name):
    picture = photograph(name)
    done = toned(picture, 0.5, 5600, 1.05)
    own, aim, truth = picture[:, :240], done[:, 240:], done[:, :240]
    assert off(own, truth) > 4
    assert off(carried(fit_kindred([part(own)], [part(aim)]), own), truth) < 2.2


def test_halves_that_show_different_things_are_brought_nearer_on_the_whole():
    """Means and spreads of halves differ by far more than a tone: fitting those left more than there was."""
    before, after = [], []
    for name in ("astronaut", "coffee", "chelsea", "rocket"):
        picture = photograph(name)
        for stops, kelvin in ((0.4, 5400), (-0.4, 8000)):
            done = toned(picture, stops, kelvin)
            for own, aim, truth in (
                (picture[:, 240:], done[:, :240], done[:, 240:]),
                (picture[180:], done[:180], done[180:]),
            ):
                before.append(off(own, truth))
                after.append(off(fitted(own, aim), truth))
    assert np.mean(after) < 0.6 * np.mean(before)
    assert np.mean(np.array(after) > np.array(before) + 1) < 0.2  # few are made worse
    assert np.mean(np.array(after) == np.array(before)) < 0.2  # and most are not refused


def test_most_aims_on_quite_other_things_are_refused_in_words():
    names = ("astronaut", "coffee", "chelsea", "rocket", "grass", "brick")
    pictures = {name: part(photograph(name)) for name in names}
    refused, pulled = 0, []
    for own in names:
        for aim in names:
            if own == aim:
                continue
            try:
                fit = fit_kindred([pictures[own]], [pictures[aim]])
                pulled.append(abs(fit.moved_stops))
            except ValueError:
                refused += 1
    with pytest.raises(ValueError, match=r"too unlike .* Draw an aim of the zone's own kind"):
        fit_kindred([pictures["coffee"]], [pictures["grass"]])
    assert refused >= 20  # of 30
    assert np.mean(pulled) < 0.4


def test_how_sure_it_is_tells_how_alike_both_are():
    grass, rocket = photograph("grass"), photograph("rocket")
    alike = fit_kindred([part(grass[:, :240])], [part(grass[:, 240:])])
    unlike = fit_kindred([part(rocket[:180])], [part(rocket[180:])])
    assert alike.spread[0] < 0.35
    assert unlike.spread[0] > 1.5 * alike.spread[0]
    assert abs(alike.moved_stops) < 0.2


def test_a_white_that_was_changed_is_told_in_stops_of_blue_against_red():
    grass, coffee = photograph("grass"), photograph("coffee")
    cold = grass * np.array([0.8, 1.0, 1.25], np.float32)  # 0.64 stops
    fit = fit_kindred([part(grass[:, :240])], [part(cold[:, 240:])])
    assert fit.cooler_stops == pytest.approx(np.log2(1.25 / 0.8), abs=0.2)
    warm = fit_kindred([part(cold[:, :240])], [part(grass[:, 240:])])
    assert warm.cooler_stops == pytest.approx(-np.log2(1.25 / 0.8), abs=0.2)
    assert fit.white_spread < 0.3
    unlike = fit_kindred([part(coffee[:, :240])], [part(coffee[:, 240:])])
    assert unlike.white_spread > 1.3 * fit.white_spread
    assert abs(unlike.cooler_stops) < 2 * unlike.white_spread  # nobody changed it


def test_a_move_that_is_far_off_is_less_sure():
    """It may as well be that both show unlike things."""
    picture = photograph("brick")
    near, far = (
        fit_kindred([part(picture[:, :240] / light)], [part(picture[:, 240:])]) for light in (np.float32(1), 4)
    )
    assert near.spread[0] < 0.35
    assert far.spread[0] > 1.5 * near.spread[0]


def test_a_zone_that_is_stops_too_dark_is_lifted():
    picture = photograph("gravel")
    for stops in (-2.0, 2.0):
        fit = fit_kindred([part(picture[:, :240] * np.float32(2**stops))], [part(picture[:, 240:])])
        assert fit.moved_stops == pytest.approx(-stops, abs=0.3)
        assert abs(fit.moved_stops + stops) < 2 * fit.spread[0] + 0.05


def test_only_what_is_inside_counts_and_it_is_the_same_at_every_run():
    picture = photograph("brick")
    done = toned(picture, 0.4)
    cv2.circle(shape := np.zeros((360, 240), np.uint8), (120, 180), 100, 1, -1)
    inside = shape > 0
    own = picture[:, :240].copy()
    first = fit_kindred([(own, inside)], [part(done[:, 240:])])
    own[~inside] = 7.0
    own[:5] = np.nan
    assert fit_kindred([(own, inside)], [part(done[:, 240:])]) == first
    assert first.moved_stops == pytest.approx(0.4, abs=0.2)


def test_what_is_no_number_is_passed_by_and_a_part_of_no_cell_is_refused():
    picture = photograph("brick")
    own, inside = picture[:, :240].copy(), np.ones((360, 240), bool)
    whole = fit_kindred([(own, inside)], [part(picture[:, 240:])])
    own[100:140, 50:90] = np.nan
    own[200, 200] = np.inf
    holed = fit_kindred([(own, inside)], [part(picture[:, 240:])])
    assert np.isfinite(holed.matrix).all()
    assert holed.moved_stops == pytest.approx(whole.moved_stops, abs=0.05)
    dotted = np.where(np.random.default_rng(3).random((360, 240, 1)) < 0.1, np.nan, picture[:, :240])
    assert fit_kindred([(dotted, inside)], [part(picture[:, 240:])]).moved_stops == pytest.approx(
        whole.moved_stops, abs=0.1
    )
    with pytest.raises(ValueError, match="too unlike"):  # 16 stops away: no tone, but another encoding
        fit_kindred([part(picture[:, :240] * np.float32(6e4))], [part(picture[:, 240:])])
    own[:] = np.nan
    for mask in (inside, inside & (np.arange(240) == 5)):
        with pytest.raises(ValueError, match="zone is too small"):
            fit_kindred([(own, mask)], [part(picture[:, 240:])])


NAMES = ("grass", "gravel", "brick", "coffee", "chelsea", "rocket", "astronaut")


def seen_off(own: np.ndarray, aim: np.ndarray) -> ToneOff | None:
    try:
        return tone_off([part(own)], [part(aim)])
    except ValueError:
        return None


def test_how_far_a_tone_seems_off_is_as_far_as_is_said_on_halves_of_photographs():
    """What percentiles cannot tell: unlike halves of one tone are near, like halves of two tones are far."""
    right, wrong, held = [], [], []
    for n, name in enumerate(NAMES):
        picture = photograph(name)
        done = toned(picture, 0.3, 5800, 1.05)
        aim, truth = done[:, 240:], done[:, :240]
        for by in (0.0, (-1.2, 1.0)[n % 2]):
            own = (truth * 2**by).astype(np.float32)
            found = seen_off(own, aim)
            if found is None:
                continue
            (wrong if by else right).append(found)
            held.append(abs(found.delta_e - off(own, truth)) <= 2 * found.spread)
    assert len(right) >= 5
    assert np.median([each.delta_e for each in right]) < 3
    assert np.median([each.delta_e for each in wrong]) > 6
    assert np.mean(held) >= 0.9
    by_percentile = [compare(p[:, :240].reshape(-1, 3), p[:, 240:].reshape(-1, 3)) for p in map(photograph, NAMES)]
    assert max(max(each.delta_e) for each in by_percentile) > 10  # that is what they show, of one tone


def test_a_small_zone_is_compared_by_its_pixels_and_one_of_numbers_that_are_none_without_them():
    picture = photograph("grass")
    mask = np.zeros(picture.shape[:2], bool)
    mask[100:130, 100:160] = True
    small = tone_off([(picture, mask)], [part(picture)])
    assert small.delta_e < 3 * small.spread
    spoilt = picture.copy()
    spoilt[40:80, 40:90] = np.nan
    found = tone_off([part(spoilt)], [part(picture)])
    assert np.isfinite(found).all()
    assert found.delta_e < 2
