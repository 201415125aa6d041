"""Colour, screen and difference pulls; how pulls are joined."""

import colour as reference
import numpy as np
import pytest

from plates import blue_screen
from zonal_mantle.demo.elements import flag_frame
from zonal_mantle.matte import MatteError, build_matte, colour, despill, difference, halo, luma, oklab, screen
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.shot import (
    ColourPull,
    ColourSample,
    DifferencePull,
    Keyed,
    LumaPull,
    Matte,
    ScreenPull,
)


def number(value: float) -> Keyed:
    return Keyed(constant=value)


def test_oklab_agrees_with_colour_science():
    # reference library: colour-science; published: Ottosson 2020
    linear = np.random.default_rng(1).uniform(0, 1.5, (200, 3))
    xyz = reference.RGB_to_XYZ(linear, "sRGB", apply_cctf_decoding=False)
    assert np.abs(oklab(linear) - reference.XYZ_to_Oklab(xyz)).max() < 5e-4


def test_oklab_meets_its_published_examples():
    # published: Ottosson 2020, table of XYZ and Oklab pairs: D65 white is (1, 0, 0)
    assert oklab(np.array([1.0, 1.0, 1.0])) == pytest.approx([1, 0, 0], abs=1e-4)
    assert oklab(np.zeros(3)) == pytest.approx([0, 0, 0], abs=1e-3)


def test_a_sample_goes_and_what_is_unlike_it_stays():
    pixels = np.array([[[0.2, 0.4, 0.8], [0.21, 0.41, 0.79], [0.8, 0.3, 0.1]]], np.float32)
    pull = ColourPull(samples=(ColourSample(colour=(0.2, 0.4, 0.8)),))
    assert colour(pixels, pull)[0] == pytest.approx([0, 0, 1], abs=1e-6)


def test_the_ramp_runs_from_tolerance_over_softness():
    sample = (0.3, 0.3, 0.3)
    base = oklab(np.array(sample))
    greys = srgb_decode(np.linspace(0.4, 0.9, 40))[:, None].repeat(3, 1)
    away = np.abs(oklab(greys)[:, 0] - base[0])
    pull = ColourPull(
        samples=(ColourSample(colour=sample),), tolerance=number(0.05), softness=number(0.1), lightness=number(1.0)
    )
    assert colour(greys[None].astype(np.float32), pull)[0] == pytest.approx(
        np.clip((away - 0.05) / 0.1, 0, 1), abs=2e-3
    )


def test_a_run_of_colours_spans_horizon_to_zenith():
    horizon, zenith = np.array([0.85, 0.8, 0.75]), np.array([0.15, 0.3, 0.7])
    lab = oklab(np.stack([horizon, zenith]))
    share = np.linspace(0, 1, 11)[:, None]
    # colours evenly between the two in Oklab, brought back by inverting numerically through colour-science
    between = reference.XYZ_to_RGB(
        reference.Oklab_to_XYZ(lab[0] * (1 - share) + lab[1] * share), "sRGB", apply_cctf_encoding=False
    )
    joined = ColourPull(samples=(ColourSample(colour=tuple(horizon), to=tuple(zenith)),), tolerance=number(0.02))
    alone = joined.but(samples=(ColourSample(colour=tuple(horizon)), ColourSample(colour=tuple(zenith))))
    row = between[None].astype(np.float32)
    assert colour(row, joined).max() < 0.01
    assert colour(row, alone)[0, 5] > 0.9


def test_a_subtracted_sample_stays_in_spite_of_the_others():
    pixels = np.array([[[0.7, 0.75, 0.8], [0.75, 0.72, 0.5]]], np.float32)
    goes = ColourSample(colour=(0.7, 0.75, 0.8))
    pull = ColourPull(samples=(goes,), tolerance=number(0.3), softness=number(0.01), lightness=number(1.0))
    assert colour(pixels, pull)[0].tolist() == [0, 0]
    held = pull.but(samples=(goes, ColourSample(colour=(0.75, 0.72, 0.5), subtract=True)), tolerance=number(0.02))
    assert colour(pixels, held)[0] == pytest.approx([0, 1], abs=1e-4)


def test_lightness_may_count_for_nothing():
    pixels = np.array([[[0.05, 0.1, 0.2], [0.2, 0.4, 0.8]]], np.float32)
    pull = ColourPull(samples=(ColourSample(colour=(0.2, 0.4, 0.8)),), lightness=number(0.0), tolerance=number(0.1))
    assert colour(pixels, pull)[0, 0] < 0.2
    assert colour(pixels, pull.but(lightness=number(1.0)))[0, 0] == 1


def test_a_colour_pull_without_samples_says_what_to_do():
    with pytest.raises(MatteError, match="Drag over a colour that is to go"):
        colour(np.zeros((4, 4, 3), np.float32), ColourPull())


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_an_uneven_blue_screen_is_pulled_by_itself(seed):
    # open data: a photograph of scikit-image before a screen of our own; 8-bit, colour at half size
    plate = blue_screen(seed)
    alpha, _ = screen(plate.pixels, ScreenPull())
    assert ((alpha - plate.alpha) ** 2).mean() < 1.5e-3
    even, _ = screen(plate.pixels, ScreenPull(uneven=False))
    assert ((even - plate.alpha) ** 2).mean() > 5e-3  # its light does fall off


def test_grey_before_a_pure_screen_has_its_exact_alpha():
    # published: Smith & Blinn 1996, solution 2 (grey foreground): the screen's excess is linear in 1 − α
    alpha = np.linspace(0, 1, 21, dtype=np.float32)[None]
    pixels = alpha[..., None] * 0.4 + (1 - alpha[..., None]) * np.array([0.0, 0.0, 0.5], np.float32)
    pull = ScreenPull(colour=(0.0, 0.0, 0.5), uneven=False, black=number(0.0), white=number(1.0))
    assert screen(pixels, pull)[0] == pytest.approx(alpha, abs=1e-6)
    green = pixels[..., [0, 2, 1]]
    assert screen(green, pull.but(screen="green", colour=(0.0, 0.5, 0.0)))[0] == pytest.approx(alpha, abs=1e-6)


def test_two_backgrounds_give_the_alpha_that_the_screen_pull_gives():
    # published: Smith & Blinn 1996, triangulation: α = 1 − (C1 − C2)·(B1 − B2) / |B1 − B2|²
    rng = np.random.default_rng(4)
    alpha = rng.uniform(0, 1, (1, 300, 1)).astype(np.float32)
    grey = rng.uniform(0.1, 0.8, (1, 300, 1)).astype(np.float32).repeat(3, 2)
    b1, b2 = np.array([0.02, 0.05, 0.5], np.float32), np.array([0.02, 0.5, 0.05], np.float32)
    c1, c2 = (grey * alpha + b * (1 - alpha) for b in (b1, b2))
    exact = 1 - ((c1 - c2) @ (b1 - b2)) / ((b1 - b2) @ (b1 - b2))
    assert exact == pytest.approx(alpha[..., 0], abs=1e-5)
    pull = ScreenPull(colour=tuple(map(float, b1)), uneven=False, black=number(0.0), white=number(1.0))
    assert screen(c1, pull)[0] == pytest.approx(exact, abs=1e-5)


def test_clips_make_empty_and_solid():
    alpha = np.linspace(0, 1, 11, dtype=np.float32)[None]
    pixels = alpha[..., None] * 0.4 + (1 - alpha[..., None]) * np.array([0.0, 0.0, 0.5], np.float32)
    pull = ScreenPull(colour=(0.0, 0.0, 0.5), uneven=False, black=number(0.2), white=number(0.7))
    assert screen(pixels, pull)[0] == pytest.approx(np.clip((alpha - 0.2) / 0.5, 0, 1), abs=1e-5)


@pytest.mark.parametrize(("limit", "expected"), [("larger", 0.5), ("mean", 0.35), ("smaller", 0.2)])
def test_despill_holds_the_channel_to_its_limit(limit, expected):
    spilled = np.array([[0.5, 0.2, 0.9], [0.5, 0.2, 0.1]], np.float32)
    out = despill(spilled, ScreenPull(despill=limit))
    assert out[0] == pytest.approx([0.5, 0.2, expected])
    assert out[1] == pytest.approx(spilled[1] if limit != "smaller" else [0.5, 0.2, 0.1])


def test_despill_can_keep_lightness():
    spilled = np.array([[0.5, 0.2, 0.9]], np.float32)
    out = despill(spilled, ScreenPull(despill_lightness=number(1.0)))
    weights = np.array([0.2126, 0.7152, 0.0722])
    assert out[0] @ weights == pytest.approx(spilled[0] @ weights, rel=1e-5)


def test_the_wrong_screen_is_named():
    with pytest.raises(MatteError, match="The sample is not green"):
        screen(np.full((8, 8, 3), 0.3, np.float32), ScreenPull(screen="green", colour=(0.1, 0.1, 0.5)))
    with pytest.raises(MatteError, match="Nothing in the picture is blue"):
        screen(np.full((8, 8, 3), 0.3, np.float32), ScreenPull())


def test_difference_is_empty_where_the_clean_plate_is_the_same():
    clean = np.random.default_rng(1).uniform(0.1, 0.9, (30, 40, 3)).astype(np.float32)
    pixels = clean.copy()
    pixels[10:20, 10:20] = 0.02
    alpha = difference(pixels, clean, DifferencePull())
    assert alpha[:10].max() == 0
    assert alpha[10:20, 10:20].mean() > 0.9
    seen = np.concatenate([clean, np.zeros((30, 40, 1), np.float32)], axis=2)
    assert difference(pixels, seen, DifferencePull()).min() == 1


def test_pulls_are_joined_in_their_order():
    ramp = srgb_decode(np.linspace(0, 1, 50))[None, :, None].repeat(3, 2).astype(np.float32)
    a = LumaPull(id="a", high=number(0.4), high_softness=number(0.4))
    b = LumaPull(id="b", low=number(0.6), low_softness=number(0.4), high=number(1.5))
    fa, fb = (luma(ramp, pull, clamp=False) for pull in (a, b))
    for combine, expected in (
        ("union", np.maximum(fa, fb)),
        ("intersection", np.minimum(fa, fb)),
        ("subtraction", fa * (1 - fb)),
    ):
        made = build_matte(ramp, Matte(pulls=(a, b.but(combine=combine))), 1)
        assert made.alpha == pytest.approx(expected, abs=1e-5), combine
    off = build_matte(ramp, Matte(pulls=(a, b.but(on=False, combine="union"))), 1)
    assert off.alpha == pytest.approx(fa, abs=1e-5)


def test_a_free_curve_takes_the_place_of_thresholds():
    # reference library: SciPy's monotone interpolation stays within its points
    points = ((0.0, 1.0), (0.3, 1.0), (0.6, 0.25), (0.9, 0.0))
    ramp = srgb_decode(np.linspace(0, 1, 101))[None, :, None].repeat(3, 2).astype(np.float32)
    alpha = luma(ramp, LumaPull(curve=points))[0]
    assert alpha[[0, 30, 60, 90, 100]] == pytest.approx([1, 1, 0.25, 0, 0], abs=4e-3)
    assert (np.diff(alpha) <= 1e-6).all()


@pytest.mark.parametrize("green", [False, True])
@pytest.mark.parametrize("seed", [2, 7])
def test_a_rim_of_saturated_red_is_no_more_solid_than_it_is(seed, green):
    """Red has less of the screen's channel than a grey: its rim keeps none of the screen (truth is the generator's)."""
    for index in (3, 14):
        pixels, true = flag_frame(index, seed)
        pull = ScreenPull(screen="green" if green else "blue")
        pixels = np.ascontiguousarray(pixels[..., [0, 2, 1]]) if green else pixels
        made = build_matte(pixels, Matte(pulls=(pull,)), 1)
        rim = (true > 0.05) & (true < 0.95)
        assert np.sqrt(((made.alpha - true)[rim] ** 2).mean()) < 0.06
        assert abs(halo(pixels, made.alpha, made.foreground)) < 8
