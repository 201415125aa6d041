"""Everything pointwise that a grade can do, compiled into one value that one kernel applies.

A tone is up to `STAGES` stages, each: a matrix with an offset, curves, a table by hue, saturation; in the stage's
working encoding. A new control is a new way to fill these: the kernels that carry a tone do not change.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..media.bands import run_bands
from ..media.compiled import fast_kernel, fast_part
from ..media.powers import exp2_of, log2_of, power_of
from ..words import say

Array = NDArray[np.float32]
Encoding = Literal["scene-linear", "log"]
STAGES = 20  # of a zone: its own tone's, its look's, its group's, and that of the group's look, five each
CURVE_POINTS, HUE_POINTS = 1024, 64
CURVE_LOW, CURVE_HIGH = -0.5, 1.5  # of the encoded values that a curve is tabulated over; it goes on straight beyond
REC709_LUMA = (0.2126, 0.7152, 0.0722)  # ITU-R BT.709-6, item 3.2
IDENTITY = (1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0)
LINEAR, LOG = 0, 1
NO_CURVE, POWERS, TABLES = 0, 1, 2

# ACEScct (AMPAS S-2016-001, section 4.4), here on Rec. 709 primaries
LOG_BREAK, LOG_SLOPE, LOG_OFFSET = 0.0078125, 10.5402377416545, 0.0729055341958355
LOG_SCALE, LOG_SHIFT = 17.52, 9.72


@dataclass(frozen=True)
class Stage:
    """One stage of a tone.

    matrix : twelve numbers, three rows of red, green, blue and offset. powers : of red, green, blue, or None. curves :
    (3, CURVE_POINTS) values over CURVE_LOW … CURVE_HIGH as bytes of float32, or None; it stands in for powers. hues :
    (3, HUE_POINTS) turn of the hue in turns, factor of saturation, factor of light, as bytes of float32, or None.
    tints : (4, HUE_POINTS) over the log encoding of luma from 0 to 1: the colour, of luma 1, that it is drawn to, and
    how much.
    """

    encoding: Encoding = "scene-linear"
    matrix: tuple[float, ...] = IDENTITY
    powers: tuple[float, float, float] | None = None
    curves: bytes | None = None
    hues: bytes | None = None
    saturation: float = 1.0
    tints: bytes | None = None

    @property
    def changes(self) -> bool:
        """Whether it does anything."""
        plain = self.matrix == IDENTITY and self.saturation == 1
        tables = (self.powers, self.curves, self.hues, self.tints)
        return not plain or any(table is not None for table in tables)


@dataclass(frozen=True)
class Tone:
    """Stages in their order; none of them leaves a picture as it is.

    Examples
    --------
    >>> Tone((Stage(), Stage(saturation=0.5))).stages
    (Stage(encoding='scene-linear', matrix=(1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0), powers=None, \
curves=None, hues=None, saturation=0.5, tints=None),)
    """

    stages: tuple[Stage, ...] = ()

    def __post_init__(self) -> None:
        acting = tuple(stage for stage in self.stages if stage.changes)
        if len(acting) > STAGES:
            raise ValueError(say("A tone has at most {stages} stages, not {count}.", stages=STAGES, count=len(acting)))
        object.__setattr__(self, "stages", acting)


NO_TONE = Tone()


class ToneNumbers(NamedTuple):
    """A tone as kernels take it: float32 arrays over the stages."""

    stages: int
    encodings: NDArray[np.int32]  # (STAGES)
    matrices: Array  # (STAGES, 12)
    curve_kinds: NDArray[np.int32]  # (STAGES)
    powers: Array  # (STAGES, 3)
    curves: Array  # (STAGES or 1, 3, CURVE_POINTS)
    hued: NDArray[np.int32]  # (STAGES)
    hues: Array  # (STAGES or 1, 3, HUE_POINTS)
    saturations: Array  # (STAGES)
    tinted: NDArray[np.int32]  # (STAGES)
    tints: Array  # (STAGES or 1, 4, HUE_POINTS)


def _folded(stage: Stage) -> Stage:
    """A stage whose saturation is part of its matrix, where nothing lies between the two."""
    if stage.saturation == 1 or stage.powers is not None or stage.curves is not None or stage.hues is not None:
        return stage
    grey = np.tile(REC709_LUMA, (3, 1))
    mix = grey + stage.saturation * (np.eye(3) - grey)
    matrix = mix @ np.array(stage.matrix).reshape(3, 4)
    return replace(stage, matrix=tuple(matrix.ravel().tolist()), saturation=1.0)


@lru_cache(maxsize=64)
def tone_numbers(tone: Tone) -> ToneNumbers:
    """A tone for the kernels."""
    stages = tone.stages
    curved, hued = any(s.curves for s in stages), any(s.hues for s in stages)
    tinted = any(s.tints for s in stages)
    out = ToneNumbers(
        len(stages),
        np.zeros(STAGES, np.int32),
        np.tile(np.array(IDENTITY, np.float32), (STAGES, 1)),
        np.zeros(STAGES, np.int32),
        np.ones((STAGES, 3), np.float32),
        np.zeros((STAGES if curved else 1, 3, CURVE_POINTS), np.float32),
        np.zeros(STAGES, np.int32),
        np.zeros((STAGES if hued else 1, 3, HUE_POINTS), np.float32),
        np.ones(STAGES, np.float32),
        np.zeros(STAGES, np.int32),
        np.zeros((STAGES if tinted else 1, 4, HUE_POINTS), np.float32),
    )
    for k, stage in enumerate(_folded(stage) for stage in stages):
        out.encodings[k] = LOG if stage.encoding == "log" else LINEAR
        out.matrices[k] = stage.matrix
        out.saturations[k] = stage.saturation
        if stage.curves is not None:
            out.curve_kinds[k] = TABLES
            out.curves[k] = np.frombuffer(stage.curves, np.float32).reshape(3, CURVE_POINTS)
        elif stage.powers is not None:
            out.curve_kinds[k] = POWERS
            out.powers[k] = stage.powers
        if stage.hues is not None:
            out.hued[k] = 1
            out.hues[k] = np.frombuffer(stage.hues, np.float32).reshape(3, HUE_POINTS)
        if stage.tints is not None:
            out.tinted[k] = 1
            out.tints[k] = np.frombuffer(stage.tints, np.float32).reshape(4, HUE_POINTS)
    return out


@fast_part
def _logged(x):  # type: ignore[no-untyped-def]
    low = np.float32(LOG_SLOPE) * x + np.float32(LOG_OFFSET)
    high = (log2_of(max(x, np.float32(LOG_BREAK))) + np.float32(LOG_SHIFT)) * np.float32(1 / LOG_SCALE)
    return high if x > np.float32(LOG_BREAK) else low


def logged(value: float) -> float:
    """A scene-linear value in the log encoding."""
    if value <= LOG_BREAK:
        return LOG_SLOPE * value + LOG_OFFSET
    return float((np.log2(value) + LOG_SHIFT) / LOG_SCALE)


@fast_part
def _unlogged(y):  # type: ignore[no-untyped-def]
    at = np.float32(LOG_SLOPE * LOG_BREAK + LOG_OFFSET)
    low = (y - np.float32(LOG_OFFSET)) * np.float32(1 / LOG_SLOPE)
    high = exp2_of(y * np.float32(LOG_SCALE) - np.float32(LOG_SHIFT))
    return high if y > at else low


@fast_part
def _curve_at(table, x):  # type: ignore[no-untyped-def]
    """A tabulated curve, straight between its points and beyond its ends."""
    place = (x - np.float32(CURVE_LOW)) * np.float32((CURVE_POINTS - 1) / (CURVE_HIGH - CURVE_LOW))
    first = min(max(int(np.floor(place)), 0), CURVE_POINTS - 2)
    return table[first] + (place - np.float32(first)) * (table[first + 1] - table[first])


@fast_part
def _encoded_row(row, decode):  # type: ignore[no-untyped-def]
    """Flat premultiplied RGBA between scene-linear and the log encoding, in place; own colour, not premultiplied."""
    least, at = np.float32(1e-6), np.uintp
    for x in range(at(row.shape[0] // 4)):
        k = at(4) * x
        a = max(row[k + at(3)], least)
        share = np.float32(1) / a
        for c in range(3):
            value = row[k + at(c)] * share
            row[k + at(c)] = (_unlogged(value) if decode else _logged(value)) * a


@fast_part
def _hue_row(row, table):  # type: ignore[no-untyped-def]
    """Turns hues and scales saturation and light by hue, in the plane of equal red + green + blue."""
    points = np.float32(HUE_POINTS)
    turn_of = np.float32(1 / (2 * np.pi))
    root = np.float32(np.sqrt(3.0))
    for x in range(row.shape[0] // 4):
        k = 4 * x
        r, g, b = row[k], row[k + 1], row[k + 2]
        mean = (r + g + b) / np.float32(3)
        u, v = r - np.float32(0.5) * (g + b), np.float32(0.5) * root * (g - b)
        chroma = np.sqrt(u * u + v * v)
        if chroma < np.float32(1e-9):
            continue
        hue = np.arctan2(v, u) * turn_of
        place = (hue - np.floor(hue)) * points
        first = int(place) % HUE_POINTS
        after, share = (first + 1) % HUE_POINTS, place - np.floor(place)
        turn = table[0, first] + share * (table[0, after] - table[0, first])
        more = table[1, first] + share * (table[1, after] - table[1, first])
        light = table[2, first] + share * (table[2, after] - table[2, first])
        angle = (hue + turn) / turn_of
        u, v = chroma * more * np.cos(angle), chroma * more * np.sin(angle)
        row[k] = light * (mean + np.float32(2 / 3) * u)
        row[k + 1] = light * (mean - u / np.float32(3) + v / root)
        row[k + 2] = light * (mean - u / np.float32(3) - v / root)


@fast_part
def _tint_row(row, table):  # type: ignore[no-untyped-def]
    """Draws colours to a tint that depends on their luma."""
    for x in range(row.shape[0] // 4):
        k = 4 * x
        whole = max(row[k + 3], np.float32(1e-6))
        luma = np.float32(0.2126) * row[k] + np.float32(0.7152) * row[k + 1] + np.float32(0.0722) * row[k + 2]
        place = min(max(_logged(luma / whole), np.float32(0)), np.float32(1)) * np.float32(HUE_POINTS - 1)
        first = min(int(place), HUE_POINTS - 2)
        share = place - np.float32(first)
        strength = table[3, first]
        for c in range(3):
            colour = table[c, first] + share * (table[c, first + 1] - table[c, first])
            row[k + c] += strength * (luma * colour - row[k + c])


@fast_part
def tone_row(row, tone):  # type: ignore[no-untyped-def]
    """Applies a tone (`ToneNumbers`) to flat premultiplied float32 RGBA in place. Nothing is clamped but what a power
    needs to be at least 0."""
    least, at = np.float32(1e-6), np.uintp
    for s in range(tone.stages):
        if tone.encodings[s] == LOG:
            _encoded_row(row, False)
        m = tone.matrices[s]
        m0, m1, m2, m3 = m[0], m[1], m[2], m[3]
        m4, m5, m6, m7 = m[4], m[5], m[6], m[7]
        m8, m9, m10, m11 = m[8], m[9], m[10], m[11]
        for x in range(at(row.shape[0] // 4)):
            k = at(4) * x
            a = max(row[k + at(3)], np.float32(0))
            r, g, b = row[k], row[k + at(1)], row[k + at(2)]
            row[k] = r * m0 + g * m1 + b * m2 + a * m3
            row[k + at(1)] = r * m4 + g * m5 + b * m6 + a * m7
            row[k + at(2)] = r * m8 + g * m9 + b * m10 + a * m11
        if tone.curve_kinds[s] == POWERS:
            p0, p1, p2 = tone.powers[s, 0], tone.powers[s, 1], tone.powers[s, 2]
            for x in range(at(row.shape[0] // 4)):
                k = at(4) * x
                a = max(row[k + at(3)], np.float32(0))
                whole = max(a, least)
                row[k] = power_of(row[k] / whole, p0) * a
                row[k + at(1)] = power_of(row[k + at(1)] / whole, p1) * a
                row[k + at(2)] = power_of(row[k + at(2)] / whole, p2) * a
        elif tone.curve_kinds[s] == TABLES:
            for i in range(row.shape[0] // 4):
                j = 4 * i
                a = max(row[j + 3], np.float32(0))
                whole = max(a, least)
                for c in range(3):
                    row[j + c] = _curve_at(tone.curves[s, c], row[j + c] / whole) * a
        if tone.hued[s] == 1:
            _hue_row(row, tone.hues[s])
        saturation = tone.saturations[s]
        if saturation != np.float32(1):
            for x in range(at(row.shape[0] // 4)):
                k = at(4) * x
                r, g, b = row[k], row[k + at(1)], row[k + at(2)]
                luma = np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b
                row[k] = luma + saturation * (r - luma)
                row[k + at(1)] = luma + saturation * (g - luma)
                row[k + at(2)] = luma + saturation * (b - luma)
        if tone.tinted[s] == 1:
            _tint_row(row, tone.tints[s])
        if tone.encodings[s] == LOG:
            _encoded_row(row, True)


@fast_kernel
def _tone_rows(y0, y1, pixels, tone):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        tone_row(pixels[y].reshape(-1), tone)


def apply_tone(picture: Array, tone: Tone) -> None:
    """A tone on a picture in place. (h, w, 4) float32, scene-linear, premultiplied."""
    run_bands(_tone_rows, picture.shape[0], picture, tone_numbers(tone))


def toned(pixels: Array, tone: Tone) -> Array:
    """A picture with a tone applied. (h, w, 3) float32 in and out, scene-linear, not premultiplied."""
    numbers = tone_numbers(tone)
    out = np.ones((*pixels.shape[:2], 4), np.float32)
    out[..., :3] = pixels
    run_bands(_tone_rows, out.shape[0], out, numbers)
    return np.ascontiguousarray(out[..., :3])
