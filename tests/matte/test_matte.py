"""The luma pull, shapes and readings."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zonal_mantle.matte import PRESETS, build_matte, coverage, luma, read_matte, shape_alpha
from zonal_mantle.media.curves import srgb_decode
from zonal_mantle.shot import Key, Keyed, LumaPull, Matte, Shape, ShapeKey


def number(value: float) -> Keyed:
    return Keyed(constant=value)


def greys(*coded: float) -> np.ndarray:
    return srgb_decode(np.repeat(np.array(coded)[None, :, None], 3, axis=2)).astype(np.float32)


def square(mode: str = "keep", **more: object) -> Shape:
    return Shape(id=mode, mode=mode, keys=(ShapeKey(frame=1, points=((10, 10), (30, 10), (30, 30), (10, 30))),), **more)


def test_thresholds_act_on_coded_values_with_their_own_softness():
    pull = LumaPull(low=number(0.2), low_softness=number(0.1), high=number(0.7), high_softness=number(0.2))
    alpha = luma(greys(0.05, 0.15, 0.2, 0.5, 0.7, 0.8, 0.95), pull)[0]
    assert alpha == pytest.approx([0, 0.5, 1, 1, 1, 0.5, 0], abs=2e-5)


def test_zero_softness_is_a_hard_step():
    pull = LumaPull(low=number(0.2), high=number(0.7), high_softness=number(0.0))
    assert luma(greys(0.19, 0.21, 0.69, 0.71), pull)[0].tolist() == [0, 1, 1, 0]


def test_invert_gain_and_clamp_come_in_that_order():
    pull = LumaPull(high=number(0.5), high_softness=number(0.5), invert=True, gain=number(2.0))
    assert luma(greys(0.5, 0.625, 0.75, 1.0), pull)[0] == pytest.approx([0, 0.5, 1, 1], abs=1e-4)
    assert luma(greys(1.0), pull, clamp=False)[0] == pytest.approx([2.0], abs=1e-4)


def test_weights_choose_what_is_looked_at():
    red = np.array([[[1.0, 0, 0]]], np.float32)
    for name, expected in (("Red", 0), ("Green", 1), ("Blue", 1), ("Red + blue", 1)):
        pull = LumaPull(weights=PRESETS[name], high=number(0.6), high_softness=number(0.0))
        assert luma(red, pull)[0, 0] == expected
    # published: ITU-R BT.709-6, item 3.2: E'Y = 0.2126 E'R + 0.7152 E'G + 0.0722 E'B
    assert PRESETS["Luma"] == (0.2126, 0.7152, 0.0722)


def test_keyed_thresholds_move_with_the_frame():
    high = Keyed(keys=(Key(frame=1, value=0.4, way="straight"), Key(frame=11, value=0.8)))
    pull = LumaPull(high=high, high_softness=number(0.0))
    assert [float(luma(greys(0.5), pull, frame)[0, 0]) for frame in (1, 3, 5)] == [0, 0, 1]


@settings(max_examples=40, deadline=None)
@given(st.floats(0, 1), st.floats(0, 1), st.floats(0, 180), st.floats(5, 25), st.floats(3, 20))
def test_a_turned_rectangle_covers_its_analytic_area(x, y, degrees, width, height):
    a = np.deg2rad(degrees)
    turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
    corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * [width / 2, height / 2] @ turn.T + [32 + x, 32 + y]
    assert coverage(corners, (64, 64)).sum() == pytest.approx(width * height, rel=1e-4)


def test_an_ellipse_covers_its_analytic_area_anywhere():
    t = np.linspace(0, 2 * np.pi, 720, endpoint=False)
    for dx in (0.0, 0.3, 0.77):
        points = np.stack([40.1 + dx + 21.3 * np.cos(t), 33.2 + 11.7 * np.sin(t)], axis=1)
        assert coverage(points, (80, 64)).sum() == pytest.approx(np.pi * 21.3 * 11.7, rel=2e-4)


def test_coverage_agrees_with_many_samples_also_past_the_picture():
    # ground truth by brute force: 16×16 samples a pixel
    points = np.array([[-7.3, 4.2], [22.8, -6.1], [41.9, 18.4], [12.2, 30.7]])
    from skimage.draw import polygon2mask

    fine = polygon2mask((24 * 16, 32 * 16), points[:, ::-1] * 16 - 0.5)
    expected = fine.reshape(24, 16, 32, 16).mean(axis=(1, 3))
    assert np.abs(coverage(points, (32, 24)) - expected).max() < 0.035


def test_a_pixel_cut_in_half_is_half_covered():
    points = np.array([[2.5, 1.0], [6.0, 1.0], [6.0, 3.0], [2.5, 3.0]])
    assert coverage(points, (8, 4))[1, 2] == pytest.approx(0.5)


@pytest.mark.parametrize("feather", [3.0, 6.0, 40.0])
def test_feather_lies_half_on_either_side_of_the_edge(feather):
    shape = Shape(
        id="s",
        keys=(ShapeKey(frame=1, points=((-500, -500), (100, -500), (100, 900), (-500, 900))),),
        feather_in_px=feather,
        feather_out_px=feather,
    )
    line = shape_alpha(shape, 1, (200, 8))[4]
    assert np.interp(100.0, np.arange(200) + 0.5, line) == pytest.approx(0.5, abs=0.01)
    inside = np.interp(100.0 - feather / 2, np.arange(200) + 0.5, line)
    assert inside == pytest.approx(0.84375, abs=0.02)  # the smooth step 3u² − 2u³ at u = 3/4


def test_shapes_are_exact_under_proxies():
    shape = square(form="smooth")
    full = shape_alpha(shape, 1, (48, 48))
    half = shape_alpha(shape, 1, (24, 24), 0.5)
    assert np.abs(full.reshape(24, 2, 24, 2).mean(axis=(1, 3)) - half).max() < 1e-5


def test_a_smooth_shape_passes_through_its_points():
    from zonal_mantle.matte import outline

    curve = outline(square(form="smooth"), 1)
    for point in ((10, 10), (30, 10), (30, 30), (10, 30)):
        assert np.hypot(*(curve - point).T).min() < 1e-9


def test_keep_is_solid_drop_is_empty_and_drop_has_the_last_word():
    plate = np.zeros((40, 40, 3), np.float32)
    keep, drop = (
        square("keep"),
        square("drop").but(keys=(ShapeKey(frame=1, points=((20, 0), (40, 0), (40, 40), (20, 40))),)),
    )
    alpha = build_matte(plate, Matte(shapes=(drop, keep)), 1).alpha
    assert (alpha[15, 15], alpha[15, 25], alpha[5, 5]) == (1, 0, 0)
    alone = build_matte(plate, Matte(shapes=(drop,)), 1).alpha
    assert (alone[5, 5], alone[5, 25]) == (1, 0)
    off = build_matte(plate, Matte(shapes=(drop.but(on=False), keep)), 1).alpha
    assert off[15, 25] == 1


def test_readings_measure_what_was_put_there():
    alpha = np.zeros((100, 200), np.float32)
    alpha[50:] = 1
    clean = read_matte(alpha, Matte(), 1)
    assert (clean.holes, clean.leftover) == (0, 0)
    alpha[80:85, 100:110] = 0.5
    alpha[10:12, 20:40] = 0.2
    dirty = read_matte(alpha, Matte(), 1)
    keep_area = drop_area = 200 * 46  # the edge band, half of the reach of 9 px on either side, belongs to neither
    assert dirty.holes == pytest.approx(50 / keep_area, rel=0.05)
    assert dirty.leftover == pytest.approx(40 / drop_area, rel=0.05)


def test_a_keep_shape_says_where_solid_is_wanted():
    alpha = np.zeros((100, 200), np.float32)
    shape = square("keep")
    reading = read_matte(alpha, Matte(shapes=(shape,)), 1)
    assert reading.holes == 1.0
