"""All that the tone does, against the libraries and standards that define it."""

from pathlib import Path

import numpy as np
import PyOpenColorIO as ocio
import pytest

from zonal_mantle.match.errors import MatchError
from zonal_mantle.match.grade import balance_transform, curve_transform, grade, tone_at
from zonal_mantle.match.tone import logged
from zonal_mantle.match.tone_files import read_cdl, write_cdl, write_tone
from zonal_mantle.match.white import adaptation, white_xyz
from zonal_mantle.media.colour import config
from zonal_mantle.shot import Cdl, Keyed, Match, ToneMatch
from zonal_mantle.shot.match import Palette, Range, TintRamp

PICTURE = np.random.default_rng(5).uniform(0.002, 3, (40, 50, 3)).astype(np.float32)


def k(value: float) -> Keyed:
    return Keyed(constant=value)


def toned(**parts: object) -> np.ndarray:
    return grade(PICTURE, Match(tone=ToneMatch(**parts)))


def in_log(*transforms: ocio.Transform) -> np.ndarray:
    """Operations of OpenColorIO in its own ACEScct, which has our encoding's curve."""
    out = PICTURE.copy()
    config().getProcessor("ACEScg", "ACEScct").getDefaultCPUProcessor().applyRGB(out)
    for transform in transforms:
        ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor().applyRGB(out)
    config().getProcessor("ACEScct", "ACEScg").getDefaultCPUProcessor().applyRGB(out)
    return out


def apart(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.abs(a - b).max() / max(float(np.abs(b).max()), 1e-6))


def test_exposure_is_in_stops():
    assert toned(exposure_stops=k(1.5)) == pytest.approx(PICTURE * 2**1.5, rel=1e-5)


def test_colour_balance_is_opencolorios():
    # reference library: OpenColorIO's GradingToneTransform
    tone = ToneMatch(
        shadows=Range(red=k(1.2), all=k(0.9), start=0.5, width=0.0), middle=Range(blue=k(1.3), start=0.4, width=0.6),
        lights=Range(green=k(0.8), all=k(1.1), start=0.3, width=1.0),
    )  # fmt: skip
    assert apart(grade(PICTURE, Match(tone=tone)), in_log(balance_transform(tone))) < 1e-4


def test_curves_are_opencolorios():
    # reference library: OpenColorIO's GradingRGBCurveTransform
    tone = ToneMatch(curve_all=((0, 0), (0.4, 0.45), (1, 1)), curve_red=((0, 0.02), (0.5, 0.47), (1, 0.98)))
    assert apart(grade(PICTURE, Match(tone=tone)), in_log(curve_transform(tone))) < 1e-4


def test_contrast_turns_about_the_pivot_as_opencolorios_does():
    # reference library: OpenColorIO's GradingPrimaryTransform, style log: its pivot p stands for 0.5 + p / 2
    values = ocio.GradingPrimary(ocio.GRADING_LOG)
    values.contrast = ocio.GradingRGBM(1, 1, 1, 1.3)
    values.pivot = 2 * logged(0.18) - 1
    expected = in_log(ocio.GradingPrimaryTransform(values, ocio.GRADING_LOG))
    assert apart(toned(contrast=k(1.3), pivot=0.18), expected) < 1e-4
    grey = grade(np.full((1, 1, 3), 0.18, np.float32), Match(tone=ToneMatch(contrast=k(2.0))))
    assert grey == pytest.approx(0.18, rel=1e-3)


def test_levels_are_opencolorios_range():
    # reference library: OpenColorIO's RangeTransform without clamp
    transform = ocio.RangeTransform(minInValue=0.1, maxInValue=0.8, minOutValue=0.05, maxOutValue=0.9)
    transform.setStyle(ocio.RANGE_NO_CLAMP)
    ours = toned(levels_in=(k(0.1), k(0.8)), levels_out=(k(0.05), k(0.9)))
    assert apart(ours, in_log(transform)) < 1e-4


def test_whites_are_ohnos_and_bradfords():
    # reference library: colour-science (Ohno 2013 for the white, linear Bradford for the adaptation)
    colour = pytest.importorskip("colour")
    for kelvin, duv in ((3200.0, 0.0), (5000.0, 0.01), (9000.0, -0.008)):
        u, v = colour.temperature.CCT_to_uv_Ohno2013([kelvin, duv])
        x, y, z = white_xyz(kelvin, duv)
        assert (4 * x / (x + 15 * y + 3 * z), 6 * y / (x + 15 * y + 3 * z)) == pytest.approx((u, v), abs=2.5e-4)
    source, target = white_xyz(6504.0, 0.0032), white_xyz(4000.0, 0.002)
    bradford = colour.adaptation.matrix_chromatic_adaptation_VonKries(source, target, "Bradford")
    to_xyz = colour.RGB_COLOURSPACES["sRGB"].matrix_RGB_to_XYZ
    assert adaptation(4000.0, 0.002) == pytest.approx(np.linalg.inv(to_xyz) @ bradford @ to_xyz, abs=2e-3)
    assert adaptation(6504.0, 0.0032) == pytest.approx(np.eye(3), abs=1e-12)


def test_a_curve_by_hue_changes_its_hue_and_leaves_the_opposite():
    red = np.zeros((1, 2, 3), np.float32)
    red[0, 0] = (0.8, 0.1, 0.1)
    red[0, 1] = (0.1, 0.8, 0.8)
    points = tuple((float(h), 0.5 if h == 0 else 1.0) for h in range(0, 360, 60))
    out = grade(red, Match(tone=ToneMatch(saturation_by_hue=points)))
    assert np.ptp(out[0, 0]) == pytest.approx(0.35, abs=0.01)
    assert out[0, 1] == pytest.approx(red[0, 1], abs=1e-4)


def test_a_tint_draws_dark_and_bright_to_their_colours_and_keeps_luma():
    tint = TintRamp(dark=(0.2, 0.4, 1.0), bright=(1.0, 0.8, 0.4), strength=k(1.0))
    out = toned(tint=tint)
    weights = np.array([0.2126, 0.7152, 0.0722])
    assert out @ weights == pytest.approx(PICTURE @ weights, rel=2e-3)
    bright = (PICTURE @ weights) > 2
    assert (out[bright][:, 0] > out[bright][:, 2]).all()


def test_a_palette_is_done_by_its_strength():
    matrix = (1.0, 0, 0, 0.05, 0, 1.0, 0, 0.0, 0, 0, 1.0, -0.05)
    half = toned(palette=Palette(matrix=matrix, strength=k(0.5)))
    stops = 0.025 * 17.52  # published: AMPAS S-2016-001: 17.52 stops to 1 in ACEScct
    bright = PICTURE[..., 0] > 0.02  # below it the encoding is straight
    assert half[..., 0][bright] == pytest.approx(PICTURE[..., 0][bright] * 2**stops, rel=0.03)
    assert toned(palette=Palette(matrix=matrix)) == pytest.approx(PICTURE, rel=1e-6)


def test_a_part_that_is_switched_off_does_nothing():
    assert np.array_equal(toned(on=False, exposure_stops=k(2)), PICTURE)


def through(path: Path, picture: np.ndarray) -> np.ndarray:
    """A picture through a file, by OpenColorIO."""
    ocio.ClearAllCaches()
    transform, out = ocio.FileTransform(src=str(path)), picture.copy()
    transform.setInterpolation(ocio.INTERP_TETRAHEDRAL)
    ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor().applyRGB(out)
    return out


PLAIN = ToneMatch(
    exposure_stops=k(0.3), temperature_k=k(5000), contrast=k(1.2), curve_all=((0, 0), (0.5, 0.55), (1, 1)),
    saturation=k(0.8), cdl=Cdl(slope=(k(1.1), k(1), k(0.9)), power=(k(1.1), k(1), k(0.9))),
)  # fmt: skip


@pytest.mark.parametrize(
    ("name", "tone", "tolerance"),
    [
        ("plain.clf", PLAIN, 2e-4), ("hue.clf", PLAIN.but(hue_deg=k(15)), 0.03),
        ("plain.cube", PLAIN, 0.02), ("hue.cube", PLAIN.but(hue_deg=k(15)), 0.02),
    ],
)  # fmt: skip
def test_a_whole_tone_leaves_as_a_file_that_does_the_same(tmp_path, name, tone, tolerance):
    # reference library: OpenColorIO reads the file back
    picture = np.random.default_rng(0).uniform(0.002, 0.95, (40, 50, 3)).astype(np.float32)
    said = write_tone(tmp_path / name, tone_at(tone))
    assert said
    difference = np.abs(through(tmp_path / name, picture) - grade(picture, Match(tone=tone)))
    assert difference.max() < tolerance
    assert difference.mean() < max(tolerance / 5, 2e-5)


@pytest.mark.parametrize("suffix", [".cc", ".ccc", ".cdl"])
def test_a_cdl_leaves_and_comes_back(tmp_path, suffix):
    path = tmp_path / f"tower{suffix}"
    assert write_cdl(path, PLAIN.cdl, "tower") == ""
    assert read_cdl(path) == PLAIN.cdl
    keyed = PLAIN.cdl.but(encoding="log", saturation=Keyed().with_key(1, 0.5).with_key(9, 1.0))
    words = write_cdl(path, keyed, "tower", 9)
    assert "keys" in words
    assert "log" in words


def test_files_that_are_no_tones_are_refused(tmp_path):
    (tmp_path / "bad.cc").write_text("<ColorCorrection>")
    with pytest.raises(MatchError, match=r"bad\.cc holds no ASC CDL"):
        read_cdl(tmp_path / "bad.cc")
    with pytest.raises(MatchError, match="no kind of CDL"):
        write_cdl(tmp_path / "a.txt", PLAIN.cdl, "a")
    with pytest.raises(MatchError, match=r"\.clf or as \.cube"):
        write_tone(tmp_path / "a.png", tone_at(PLAIN))
    with pytest.raises(MatchError, match="cannot be written"):
        write_tone(tmp_path / "nowhere" / "a.cube", tone_at(PLAIN))
