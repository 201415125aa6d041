"""Blend modes against the formulas of the W3C's Compositing and Blending Level 1, written out for one pixel."""

import numpy as np
import pytest

from zonal_mantle.comp.blend import MODES, laid_on
from zonal_mantle.media.curves import srgb_decode, srgb_encode


def lum(c):
    return 0.3 * c[0] + 0.59 * c[1] + 0.11 * c[2]


def clip(c):
    c, light = list(c), lum(c)
    n, x = min(c), max(c)
    if n < 0:
        c = [light + (v - light) * light / (light - n) for v in c]
    if x > 1:
        c = [light + (v - light) * (1 - light) / (x - light) for v in c]
    return c


def set_lum(c, light):
    d = light - lum(c)
    return clip([v + d for v in c])


def set_sat(c, s):
    """The recommendation's own procedure, on the least, middle and most of the three."""
    order = sorted(range(3), key=lambda i: c[i])
    out = [0.0, 0.0, 0.0]
    least, mid, most = order
    if c[most] > c[least]:
        out[mid] = (c[mid] - c[least]) * s / (c[most] - c[least])
        out[most] = s
    return out


def sat(c):
    return max(c) - min(c)


def one(mode, b, s):
    """B(Cb, Cs) of a channel, section 9.1.1 to 9.1.3 of the recommendation."""
    if mode == "normal":
        return s
    if mode == "multiply":
        return b * s
    if mode == "screen":
        return b + s - b * s
    if mode == "overlay":
        return one("hard-light", s, b)
    if mode == "darken":
        return min(b, s)
    if mode == "lighten":
        return max(b, s)
    if mode == "color-dodge":
        return 0 if b == 0 else 1 if s == 1 else min(1, b / (1 - s))
    if mode == "color-burn":
        return 1 if b == 1 else 0 if s == 0 else 1 - min(1, (1 - b) / s)
    if mode == "hard-light":
        return one("multiply", b, 2 * s) if s <= 0.5 else one("screen", b, 2 * s - 1)
    if mode == "soft-light":
        if s <= 0.5:
            return b - (1 - 2 * s) * b * (1 - b)
        d = ((16 * b - 12) * b + 4) * b if b <= 0.25 else b**0.5
        return b + (2 * s - 1) * (d - b)
    if mode == "difference":
        return abs(b - s)
    if mode == "plus":  # no mode of the recommendation's: light adds
        return b + s
    if mode == "minus":
        return max(b - s, 0)
    return b + s - 2 * b * s  # exclusion


def mixed(mode, b, s):
    if mode == "hue":
        return set_lum(set_sat(s, sat(b)), lum(b))
    if mode == "saturation":
        return set_lum(set_sat(b, sat(s)), lum(b))
    if mode == "color":
        return set_lum(s, lum(b))
    if mode == "luminosity":
        return set_lum(b, lum(s))
    return [one(mode, x, y) for x, y in zip(b, s)]


@pytest.mark.parametrize("mode", sorted(MODES))
def test_every_mode_is_the_recommendations(mode):
    chance = np.random.default_rng(7)
    values = chance.random((60, 8)).astype(np.float32)
    values[:12] = np.round(values[:12])  # 0 and 1 themselves
    values[12:20, :6] = np.round(values[12:20, :6] * 2) / 2
    for row in values:
        cs, cb, a_s, a_b = row[:3].tolist(), row[3:6].tolist(), float(row[6]), float(row[7])
        b = mixed(mode, cb, cs)
        source = [(1 - a_b) * s + a_b * v for s, v in zip(cs, b)]  # section 5
        wanted = [a_s * s + a_b * c * (1 - a_s) for s, c in zip(source, cb)]
        if 0 < a_s < 1e-3 or 0 < a_b < 1e-3:
            continue
        behind = np.array([[[*(c * a_b for c in cb), a_b]]], np.float32)
        layer = np.array([[[*(c * a_s for c in cs), a_s]]], np.float32)
        got = laid_on(behind, layer, mode, False)[0, 0]
        assert got == pytest.approx([*wanted, a_s + a_b * (1 - a_s)], abs=2e-5)


def test_in_codes_the_codes_are_mixed():
    behind = np.array([[[0.2, 0.3, 0.4, 1]]], np.float32)
    layer = np.array([[[0.5, 0.1, 0.6, 1]]], np.float32)
    got = laid_on(behind, layer, "multiply", True)[0, 0, :3]
    wanted = srgb_decode(srgb_encode(behind[0, 0, :3]) * srgb_encode(layer[0, 0, :3]))
    assert got == pytest.approx(wanted, abs=1e-3)


def test_bright_light_goes_through_what_has_no_bound():
    behind = np.array([[[6.0, 3.0, 2.0, 1]]], np.float32)
    layer = np.array([[[0.5, 2.0, 1.0, 1]]], np.float32)
    assert laid_on(behind, layer, "multiply", False)[0, 0, :3] == pytest.approx([3, 6, 2])
    assert laid_on(behind, layer, "lighten", False)[0, 0, :3] == pytest.approx([6, 3, 2])
    assert laid_on(behind, layer, "screen", False).max() <= 1


def test_an_ember_on_black_adds_its_light_and_black_adds_nothing():
    # common practice: fire shot before black, opaque, is added
    behind = np.array([[[0.4, 0.5, 0.6, 1.0], [0.4, 0.5, 0.6, 1.0]]], np.float32)
    ember = np.array([[[3.0, 0.9, 0.1, 1.0], [0.0, 0.0, 0.0, 1.0]]], np.float32)
    assert laid_on(behind, ember, "plus", False)[0] == pytest.approx(np.array([[3.4, 1.4, 0.7, 1], [0.4, 0.5, 0.6, 1]]))
    less = laid_on(behind, ember, "minus", False)[0]
    assert less == pytest.approx(np.array([[0, 0, 0.5, 1], [0.4, 0.5, 0.6, 1]]), abs=1e-6)
