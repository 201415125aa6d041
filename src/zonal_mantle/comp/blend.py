"""Blend modes of the W3C's Compositing and Blending Level 1 (2024), sections 9.1.1 to 9.1.4, sums and differences of
light, and laying one picture on another with them (section 5.1)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel
from ..media.curves import coded, srgb_decode
from ..shot.hang import Mode

Array = NDArray[np.float32]
Colour = NDArray[Any]
_LUM = np.array([0.3, 0.59, 0.11], np.float32)  # of the recommendation


def _screen(b: Colour, s: Colour) -> Colour:
    return np.asarray(b + s - b * s)


def _hard_light(b: Colour, s: Colour) -> Colour:
    return np.asarray(np.where(s <= 0.5, b * 2 * s, _screen(b, 2 * s - 1)))


def _dodge(b: Colour, s: Colour) -> Colour:
    return np.asarray(np.where(b <= 0, 0, np.where(s >= 1, 1, np.minimum(1, b / np.maximum(1 - s, 1e-6)))))


def _burn(b: Colour, s: Colour) -> Colour:
    return np.asarray(np.where(b >= 1, 1, np.where(s <= 0, 0, 1 - np.minimum(1, (1 - b) / np.maximum(s, 1e-6)))))


def _soft_light(b: Colour, s: Colour) -> Colour:
    d = np.where(b <= 0.25, ((16 * b - 12) * b + 4) * b, np.sqrt(np.maximum(b, 0)))
    return np.asarray(np.where(s <= 0.5, b - (1 - 2 * s) * b * (1 - b), b + (2 * s - 1) * (d - b)))


def _lum(c: Colour) -> Colour:
    return np.asarray(c @ _LUM)[..., None]


def _clip(c: Colour) -> Colour:
    light = _lum(c)
    low, high = c.min(axis=-1, keepdims=True), c.max(axis=-1, keepdims=True)
    c = np.where(low < 0, light + (c - light) * light / np.maximum(light - low, 1e-9), c)
    return np.asarray(np.where(high > 1, light + (c - light) * (1 - light) / np.maximum(high - light, 1e-9), c))


def _with_lum(c: Colour, light: Colour) -> Colour:
    return _clip(c + (light - _lum(c)))


def _sat(c: Colour) -> Colour:
    return np.asarray(c.max(axis=-1, keepdims=True) - c.min(axis=-1, keepdims=True))


def _with_sat(c: Colour, wide: Colour) -> Colour:
    low = c.min(axis=-1, keepdims=True)
    return np.asarray((c - low) * wide / np.maximum(_sat(c), 1e-9) * (_sat(c) > 1e-9))


MODES: dict[Mode, Callable[[Colour, Colour], Colour]] = {
    "normal": lambda b, s: s,
    "multiply": lambda b, s: b * s,
    "screen": _screen,
    "overlay": lambda b, s: _hard_light(s, b),
    "darken": np.minimum,
    "lighten": np.maximum,
    "color-dodge": _dodge,
    "color-burn": _burn,
    "hard-light": _hard_light,
    "soft-light": _soft_light,
    "difference": lambda b, s: np.abs(b - s),
    "exclusion": lambda b, s: b + s - 2 * b * s,
    "hue": lambda b, s: _with_lum(_with_sat(s, _sat(b)), _lum(b)),
    "saturation": lambda b, s: _with_lum(_with_sat(b, _sat(s)), _lum(b)),
    "color": lambda b, s: _with_lum(s, _lum(b)),
    "luminosity": lambda b, s: _with_lum(b, _lum(s)),
    "plus": lambda b, s: b + s,
    "minus": lambda b, s: np.maximum(b - s, 0),
}
UNBOUNDED: tuple[Mode, ...] = ("normal", "multiply", "darken", "lighten", "difference", "plus", "minus")


@fast_kernel
def _over_rows(y0, y1, behind, layer, out):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        below, above, sum_ = behind[y].reshape(-1), layer[y].reshape(-1), out[y].reshape(-1)
        for x in range(behind.shape[1]):
            gap = np.float32(1) - above[4 * x + 3]
            for c in range(4):
                sum_[4 * x + c] = above[4 * x + c] + below[4 * x + c] * gap


def laid_on(behind: Array, layer: Array, mode: Mode, in_codes: bool) -> Array:
    """A layer laid on what is behind it.

    Parameters
    ----------
    behind, layer : (h, w, 4) float32, scene-linear, premultiplied.
    mode : how colours mix where both are. All but plain products and comparisons are made for 0…1: light beyond 1 is
        taken as 1 there, and what the layer or the ground had beyond it is lost only where they overlap.
    in_codes : mixes coded values (sRGB curve) rather than light.

    Returns
    -------
    (h, w, 4) float32, premultiplied.
    """
    a_s, a_b = layer[..., 3:], behind[..., 3:]
    if mode == "normal" and not in_codes:
        out = np.empty_like(behind)
        run_bands(_over_rows, out.shape[0], behind, np.ascontiguousarray(layer, np.float32), out)
        return out
    own: Colour = layer[..., :3] / np.maximum(a_s, 1e-6)
    ground: Colour = behind[..., :3] / np.maximum(a_b, 1e-6)
    if in_codes:
        own, ground = (coded(np.ascontiguousarray(each, np.float32)) for each in (own, ground))
    high = None if mode in UNBOUNDED else 1.0
    b, s = (np.clip(each, 0, high) for each in (ground, own))
    mixed = np.asarray(MODES[mode](b, s), np.float32)
    mixed = (1 - a_b) * own + a_b * mixed
    if not in_codes:
        colour = a_s * mixed + (1 - a_s) * behind[..., :3]
    else:  # opacity mixes codes too
        alpha = a_s + a_b * (1 - a_s)
        codes = (a_s * mixed + (1 - a_s) * a_b * ground) / np.maximum(alpha, 1e-6)
        colour = srgb_decode(codes) * alpha
    return np.concatenate([colour, a_s + a_b * (1 - a_s)], axis=2).astype(np.float32)
