"""Grade and air."""

import numpy as np
import PyOpenColorIO as ocio
import pytest

from graded import graded
from zonal_mantle.match import add_air, cdl, extinction, grade, transmittance, visibility_for
from zonal_mantle.shot import Keyed


def triple(r: float, g: float, b: float) -> tuple[Keyed, Keyed, Keyed]:
    return Keyed(constant=r), Keyed(constant=g), Keyed(constant=b)


def test_the_grade_follows_the_asc_formula():
    # published: ASC CDL 1.2: out = (in · slope + offset)^power; luma weights 0.2126 0.7152 0.0722
    pixel = np.array([0.2, 0.4, 0.6])
    base = (pixel * [1.1, 0.9, 1.2] + [0.01, -0.02, 0.03]) ** [0.9, 1.1, 1.0]
    luma = base @ [0.2126, 0.7152, 0.0722]
    expected = luma + 1.3 * (base - luma)
    assert cdl(pixel, [1.1, 0.9, 1.2], [0.01, -0.02, 0.03], [0.9, 1.1, 1.0], 1.3) == pytest.approx(expected)


def test_the_fast_grade_agrees_with_opencolorio():
    # reference library: OpenColorIO's CDLTransform without clamp
    transform = ocio.CDLTransform(slope=[1.2, 0.8, 1.05], offset=[0.02, 0.01, -0.01], power=[0.8, 1.2, 1.1], sat=0.7)
    transform.setStyle(ocio.CDL_NO_CLAMP)
    processor = ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor()
    picture = np.random.default_rng(1).uniform(0.02, 6, (16, 32, 3)).astype(np.float32)
    expected = picture.copy()
    processor.applyRGB(expected)
    match = graded(
        slope=triple(1.2, 0.8, 1.05), offset=triple(0.02, 0.01, -0.01), power=triple(0.8, 1.2, 1.1),
        saturation=Keyed(constant=0.7),
    )  # fmt: skip
    assert np.abs(grade(picture, match) / expected - 1).max() < 2e-3


def test_what_is_below_zero_before_the_power_becomes_zero():
    match = graded(offset=triple(-0.5, -0.5, -0.5), power=triple(0.5, 0.5, 0.5))
    out = grade(np.full((1, 1, 3), 0.1, np.float32), match)
    assert np.isfinite(out).all()
    assert out == pytest.approx(0, abs=1e-6)


def test_at_the_visibility_a_twentieth_of_the_light_is_left():
    # published: WMO-No. 8, meteorological optical range: transmission factor 0.05
    for visibility in (50.0, 2000.0, 30000.0):
        assert transmittance(visibility, visibility) == pytest.approx(0.05)
    # published: Koschmieder's relation with a threshold of 0.05: V = 3.00 / β (2.996)
    assert extinction(1000) * 1000 == pytest.approx(2.9957, abs=1e-4)


def test_light_multiplies_along_the_way():
    assert transmittance(300, 5000) * transmittance(700, 5000) == pytest.approx(transmittance(1000, 5000))
    assert visibility_for(transmittance(800, 5000), 800) == pytest.approx(5000)
    assert transmittance(None, 100) == 1


def test_air_mixes_own_light_and_airlight_by_coverage():
    own, alpha = np.array([[0.2, 0.1, 0.0]]) * 0.5, np.array([0.5])
    out = add_air(own, alpha, 0.25, (0.8, 0.8, 0.9))
    assert out[0] == pytest.approx([0.025 + 0.3, 0.0125 + 0.3, 0.3375])
