"""Transfer curves against the standards and a reference library."""

import colour as reference
import numpy as np
import pytest

from zonal_mantle.media import colour, curves


def test_bt709_meets_its_standard():
    # published: ITU-R BT.709-6, item 1.2: V = 1.099 L^0.45 − 0.099 for L ≥ 0.018, else 4.5 L
    for linear, coded in ((0.0, 0.0), (0.01, 0.045), (0.018, 0.081), (1.0, 1.0)):
        assert curves.bt709_encode(np.array(linear)) == pytest.approx(coded, abs=3e-4)


def test_srgb_meets_its_standard():
    # published: IEC 61966-2-1: breakpoint 0.0031308 ↔ 0.04045; 18 % grey and white by its formula
    for linear, coded in ((0.0031308, 0.04045), (1.0, 1.0), (0.18, 1.055 * 0.18 ** (1 / 2.4) - 0.055)):
        assert curves.srgb_encode(np.array(linear)) == pytest.approx(coded, abs=1e-5)
        assert curves.srgb_decode(np.array(coded)) == pytest.approx(linear, abs=1e-5)


def test_curves_agree_with_colour_science():
    x = np.linspace(0, 1, 1001)
    assert np.abs(curves.srgb_encode(x) - reference.cctf_encoding(x, "sRGB")).max() < 1e-6
    assert np.abs(curves.bt709_encode(x) - reference.oetf(x, "ITU-R BT.709")).max() < 4e-4


def test_named_encodings_agree_with_colour_science():
    # reference library: colour-science; Rec. 709 and log curves of the built-in configuration
    x = np.repeat(np.linspace(0.05, 1, 64, dtype=np.float32)[None, :, None], 3, axis=2)
    assert np.abs(colour.to_linear(x.copy(), "sRGB") - reference.cctf_decoding(x, "sRGB")).max() < 4e-5
    rec709 = colour.to_linear(x.copy(), "Rec. 709 camera")
    assert np.abs(rec709 - reference.models.oetf_inverse_BT709(x)).max() < 1e-3
    grey = colour.from_linear(np.full((1, 1, 3), 0.18, np.float32), "ARRI LogC3 (EI800)")
    expected = float(reference.log_encoding(0.18, "ARRI LogC3", EI=800))
    assert grey == pytest.approx(expected, abs=2e-3)  # neutral grey: primaries do not matter


@pytest.mark.parametrize("name", colour.encodings())
def test_every_encoding_goes_there_and_back(name):
    x = np.random.default_rng(1).uniform(0.02, 0.9, (8, 8, 3)).astype(np.float32)
    assert np.abs(colour.to_linear(colour.from_linear(x.copy(), name), name) - x).max() < 2e-3


def test_the_fast_table_follows_the_formula():
    x = np.exp(np.random.default_rng(2).uniform(-14, 5, (64, 64, 3))).astype(np.float32)
    exact = curves.srgb_encode(x)
    assert np.abs(curves.coded(x) / exact - 1).max() < 1e-5
    assert np.abs(curves.coded(-x) + exact).max() < 1e-4


def test_the_fast_table_gives_nan_and_infinity_no_way_through():
    x = np.array([[[np.nan, np.inf, 0.0]]], np.float32)
    assert np.isfinite(curves.coded(x)).all()


def test_the_view_is_the_srgb_display_code():
    from zonal_mantle.comp.views import show

    x = np.repeat(np.linspace(0, 1, 256, dtype=np.float32)[None, :, None], 3, axis=2)
    codes = show(x)[0, :, 0].astype(int)
    assert np.abs(codes - np.round(curves.srgb_encode(x[0, :, 0]) * 255)).max() <= 1


@pytest.mark.parametrize(
    ("suffix", "bits", "tag", "expected"),
    [
        (".exr", 16, "", "Scene-linear Rec. 709"),
        (".exr", 16, "lin_rec709", "Scene-linear Rec. 709"),
        (".png", 8, "srgb_rec709_scene", "sRGB"),
        (".mp4", 8, "bt709", "Rec. 709 camera"),
        (".mov", 10, "", "Rec. 709 camera"),
        (".jpg", 8, "", "sRGB"),
    ],
)
def test_the_guess_is_sensible(suffix, bits, tag, expected):
    assert colour.guess(suffix, bits, tag) == expected
