"""The one tone that every grade compiles to."""

import numpy as np
import PyOpenColorIO as ocio
import pytest

from zonal_mantle.match.tone import CURVE_HIGH, CURVE_LOW, CURVE_POINTS, HUE_POINTS, STAGES, Stage, Tone, toned
from zonal_mantle.media.colour import config

PICTURE = np.random.default_rng(2).uniform(-0.05, 4, (24, 40, 3)).astype(np.float32)


def through(transform: ocio.Transform) -> np.ndarray:
    out = PICTURE.copy()
    ocio.Config.CreateRaw().getProcessor(transform).getDefaultCPUProcessor().applyRGB(out)
    return out


def test_a_matrix_with_offsets_is_opencolorios():
    # reference library: OpenColorIO's MatrixTransform
    rows = [[0.9, 0.2, -0.1], [0.05, 1.1, 0.0], [0.0, -0.2, 1.3]]
    four = np.eye(4)
    four[:3, :3] = rows
    expected = through(ocio.MatrixTransform(matrix=four.ravel().tolist(), offset=[0.01, -0.02, 0.03, 0]))
    numbers = tuple(v for row, shift in zip(rows, (0.01, -0.02, 0.03)) for v in (*row, shift))
    assert toned(PICTURE, Tone((Stage(matrix=numbers),))) == pytest.approx(expected, abs=1e-5)


def test_saturation_is_that_of_the_asc_cdl_and_does_not_clip():
    # reference library: OpenColorIO's CDLTransform without clamp
    transform = ocio.CDLTransform(sat=1.6)
    transform.setStyle(ocio.CDL_NO_CLAMP)
    assert toned(PICTURE, Tone((Stage(saturation=1.6),))) == pytest.approx(through(transform), abs=1e-5)


def test_the_log_encoding_is_acescct():
    # published: AMPAS S-2016-001; reference library: OpenColorIO's built-in ACEScct, here with its curve alone
    cct = config().getProcessor("ACEScg", "ACEScct").getDefaultCPUProcessor()
    back = config().getProcessor("ACEScct", "ACEScg").getDefaultCPUProcessor()
    expected = PICTURE.copy()
    cct.applyRGB(expected)
    expected += np.float32(0.1)
    back.applyRGB(expected)
    lifted = Stage(encoding="log", matrix=(1, 0, 0, 0.1, 0, 1, 0, 0.1, 0, 0, 1, 0.1))
    assert toned(PICTURE, Tone((lifted,))) == pytest.approx(expected, rel=2e-4, abs=2e-5)


def test_curves_are_straight_between_their_points_and_beyond_them():
    x = np.linspace(CURVE_LOW, CURVE_HIGH, CURVE_POINTS)
    curve = np.stack([x**2, 0.5 * x, x]).astype(np.float32)
    out = toned(PICTURE, Tone((Stage(curves=curve.tobytes()),)))
    inside = PICTURE[..., 0] < CURVE_HIGH
    assert out[..., 0][inside] == pytest.approx(PICTURE[..., 0][inside] ** 2, abs=2e-6)
    assert out[..., 1] == pytest.approx(0.5 * PICTURE[..., 1], abs=1e-5)
    slope = (curve[0, -1] - curve[0, -2]) / (x[-1] - x[-2])
    beyond = ~inside
    assert out[..., 0][beyond] == pytest.approx(curve[0, -1] + slope * (PICTURE[..., 0][beyond] - x[-1]), rel=1e-3)


def test_a_table_by_hue_turns_all_hues_alike_and_leaves_greys():
    turn = np.stack([np.full(HUE_POINTS, 1 / 3), np.ones(HUE_POINTS), np.ones(HUE_POINTS)]).astype(np.float32)
    red = np.zeros((1, 2, 3), np.float32)
    red[0, 0, 0], red[0, 1] = 0.8, 0.4
    out = toned(red, Tone((Stage(hues=turn.tobytes()),)))
    assert out[0, 0] == pytest.approx([0, 0.8, 0], abs=1e-5)  # a third of the circle on from red is green
    assert out[0, 1] == pytest.approx([0.4, 0.4, 0.4], abs=1e-6)


def test_stages_that_do_nothing_are_left_out_and_too_many_are_refused():
    assert Tone((Stage(), Stage())) == Tone()
    assert np.array_equal(toned(PICTURE, Tone()), PICTURE)
    with pytest.raises(ValueError, match=f"at most {STAGES}"):
        Tone(tuple(Stage(saturation=0.5 + k) for k in range(STAGES + 1)))
