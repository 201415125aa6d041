"""What a zone's match holds: tone, air, lens, wrap, grain, and what the zone is compared with."""

from __future__ import annotations

from itertools import accumulate
from typing import Literal

from pydantic import Field, field_validator, model_validator

from ..words import say
from .base import Value
from .keyed import Keyed
from .shapes import Point

Encoding = Literal["scene-linear", "log"]
Part = Literal["tone", "air", "lens", "wrap", "grain"]
PARTS: tuple[Part, ...] = ("tone", "air", "lens", "wrap", "grain")
Triple = tuple[Keyed, Keyed, Keyed]
DAYLIGHT_K, DAYLIGHT_DUV = 6504.0, 0.0032  # of D65 (CIE 15:2018), the white of our pixels
MIDDLE_GREY = 0.18  # common practice
MOST_TAILS = 3.0  # excess kurtosis of grain: a two-sided exponential has as much


def _keyed(value: float) -> Keyed:
    return Keyed(constant=value)


def _triple(value: float) -> Triple:
    return (_keyed(value), _keyed(value), _keyed(value))


class AimArea(Value):
    """A box of the plate (x0, y0, x1, y1 in plate pixels) as drawn on a frame, and how far off what is in it lies,
    where that is known."""

    box: tuple[float, float, float, float]
    frame: int
    distance_m: float | None = Field(default=None, gt=0)

    @model_validator(mode="after")
    def _has_size(self) -> AimArea:
        if self.box[2] - self.box[0] < 1 or self.box[3] - self.box[1] < 1:
            raise ValueError(say("An area of the aim is at least one pixel wide and high."))
        return self


class Aim(Value):
    """What a zone is compared with and fitted to: areas of the plate, riding on a lock. Without any it is what the
    matte keeps of the plate, in the zone of the plate that is nearest in distance."""

    areas: tuple[AimArea, ...] = ()
    rides: str | None = None


class Range(Value):
    """The colour balance of one range of a picture in the log encoding: factors of red, green and blue and of all, 1
    unchanged, and where the range starts and how wide it comes in. As OpenColorIO's GradingTone has them."""

    red: Keyed = _keyed(1.0)
    green: Keyed = _keyed(1.0)
    blue: Keyed = _keyed(1.0)
    all: Keyed = _keyed(1.0)
    start: float = 0.5
    width: float = 0.5


class Cdl(Value):
    """An ASC CDL, in scene-linear light or in the log encoding. Nothing is clamped above."""

    encoding: Encoding = "scene-linear"
    slope: Triple = _triple(1.0)
    offset: Triple = _triple(0.0)
    power: Triple = _triple(1.0)
    saturation: Keyed = _keyed(1.0)


class TintRamp(Value):
    """A tint along lightness: dark is drawn to one colour and bright to another, by a strength of 0 to 1."""

    dark: tuple[float, float, float] = (0.5, 0.5, 0.5)
    bright: tuple[float, float, float] = (0.5, 0.5, 0.5)
    strength: Keyed = _keyed(0.0)


class Palette(Value):
    """Where a fit moves all colours: three rows of red, green, blue and offset in the log encoding, by a strength."""

    matrix: tuple[float, ...] = (1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0)
    strength: Keyed = _keyed(0.0)

    @model_validator(mode="after")
    def _whole(self) -> Palette:
        if len(self.matrix) != 12:
            raise ValueError(say("A palette's matrix has twelve numbers: three rows of red, green, blue and offset."))
        return self


class Slope(Value):
    """Exposure that changes softly across the picture: `stops` more from `a` to `b` (plate pixels of the reference
    frame), none before `a`, all of it beyond `b`."""

    a: Point = (0.0, 0.0)
    b: Point = (1.0, 0.0)
    stops: Keyed = _keyed(0.0)


class ToneMatch(Value):
    """Tone, always computed in this order: exposure in stops; white (kelvin and Duv; scene-linear, by Bradford);
    colour balance of shadows, middle and lights (log); contrast about a pivot (log); levels (log); curves of all, red,
    green and blue (log); hue, saturation and lightness by hue (scene-linear); saturation and hue (scene-linear); tint
    along lightness; palette (log); ASC CDL.

    Curves are points (x, y) in the log encoding and do not fall: a point below the one before it is lifted to it.
    Curves by hue are points (hue in degrees, value): degrees turned, or a factor.
    """

    on: bool = True
    exposure_stops: Keyed = _keyed(0.0)
    temperature_k: Keyed = _keyed(DAYLIGHT_K)
    tint_duv: Keyed = _keyed(DAYLIGHT_DUV)
    shadows: Range = Range(start=0.5, width=0.0)
    middle: Range = Range(start=0.4, width=0.6)
    lights: Range = Range(start=0.3, width=1.0)
    contrast: Keyed = _keyed(1.0)
    pivot: float = Field(default=MIDDLE_GREY, gt=0)
    levels_in: tuple[Keyed, Keyed] = (_keyed(0.0), _keyed(1.0))
    levels_out: tuple[Keyed, Keyed] = (_keyed(0.0), _keyed(1.0))
    levels_gamma: Keyed = _keyed(1.0)
    curve_all: tuple[Point, ...] = ()
    curve_red: tuple[Point, ...] = ()
    curve_green: tuple[Point, ...] = ()
    curve_blue: tuple[Point, ...] = ()
    hue_by_hue: tuple[Point, ...] = ()
    saturation_by_hue: tuple[Point, ...] = ()
    lightness_by_hue: tuple[Point, ...] = ()
    saturation: Keyed = _keyed(1.0)
    hue_deg: Keyed = _keyed(0.0)
    tint: TintRamp = TintRamp()
    palette: Palette = Palette()
    cdl: Cdl = Cdl()
    across: Slope = Slope()

    @field_validator("curve_all", "curve_red", "curve_green", "curve_blue")
    @classmethod
    def _rising(cls, points: tuple[Point, ...]) -> tuple[Point, ...]:
        """OpenColorIO knows no curve that falls. Earlier releases let one be drawn: its shot opens all the same."""
        return tuple(zip((x for x, _ in points), accumulate((y for _, y in points), max)))

    @model_validator(mode="after")
    def _in_order(self) -> ToneMatch:
        for name in ("curve_all", "curve_red", "curve_green", "curve_blue"):
            points = getattr(self, name)
            xs = [x for x, _ in points]
            if len(points) == 1 or xs != sorted(set(xs)):
                raise ValueError(say("A curve has no points, or at least two in the order of their x."))
        return self


class AirMatch(Value):
    """Haze between lens and zone.

    far_m : where it has depth, how far off its far end is; it then grows from the zone's own distance along `line`
        (from near to far, in the painting's own pixels), or from its foot to its top.
    own_m : how far it was painted or photographed through already, at the shot's visibility; only what is missing is
        added, and what is too much is taken out.
    """

    on: bool = True
    far_m: Keyed | None = None
    line: tuple[Point, Point] | None = None
    own_m: Keyed = _keyed(0.0)


class LensMatch(Value):
    """Focus, motion blur and sharpness, in this order, in scene-linear light.

    focus : by a radius in plate pixels, or by the zone's distance and the shot's optics. blades : of the aperture, 0 is
        a disc. softness_px : standard deviation of a blur as a lens's or a scan's. sharpen : amount of what is finer
        than sharpen_px that is added, at most by `overshoot` of the local range. shutter_deg : 360 is open all of a
        frame's time; phase_deg : when it opens, -180 … 180 of a frame before or after; -90 with 180 is centred.
    """

    on: bool = True
    focus: Literal["radius", "distance"] = "radius"
    radius_px: Keyed = _keyed(0.0)
    blades: int = Field(default=0, ge=0, le=16)
    blade_turn_deg: float = 0.0
    softness_px: Keyed = _keyed(0.0)
    sharpen: Keyed = _keyed(0.0)
    sharpen_px: Keyed = _keyed(1.0)
    overshoot: Keyed = _keyed(0.2)
    motion_blur: bool = False
    shutter_deg: Keyed = _keyed(180.0)
    phase_deg: Keyed = _keyed(-90.0)

    @model_validator(mode="after")
    def _blades(self) -> LensMatch:
        if self.blades in (1, 2):
            raise ValueError(say("An aperture has no blades (a disc) or at least three."))
        return self


class WrapMatch(Value):
    """Light of the finished background that spills over the zone's rim: how far, how much, and only where what is
    behind is brighter."""

    on: bool = False
    width_px: Keyed = _keyed(20.0)
    amount: Keyed = _keyed(0.5)
    only_brighter: bool = True


class GrainModel(Value):
    """Noise as it was measured, or set by hand.

    deviation : (red, green, blue) standard deviation in coded values at each of `levels` (coded, 0…1). spatial : of
        each channel, autocorrelation at lags -2…2 across (five a row) and -2…2 down, 25 numbers, 1 in the middle.
    between : correlation of red with green, red with blue, green with blue.
    tails : how much more often than a Gaussian's its finest part, what a pixel differs by from the mean of the nine
        about it, is far from its middle: the excess kurtosis, 0 for a Gaussian. Codecs leave fine grain here and
        there.
    """

    levels: tuple[float, ...] = (0.0, 0.5, 1.0)
    deviation: tuple[tuple[float, float, float], ...] = ((0.01, 0.01, 0.01),) * 3
    spatial: tuple[tuple[float, ...], tuple[float, ...], tuple[float, ...]] = (
        ((0.0,) * 12 + (1.0,) + (0.0,) * 12),
    ) * 3
    between: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tails: float = Field(default=0.0, ge=0.0, le=MOST_TAILS)

    @model_validator(mode="after")
    def _whole(self) -> GrainModel:
        if len(self.levels) != len(self.deviation) or not self.levels or list(self.levels) != sorted(set(self.levels)):
            raise ValueError(say("Grain has a deviation for each of its levels, and levels in their order."))
        if any(len(row) != 25 for row in self.spatial):
            raise ValueError(say("The autocorrelation of a channel's grain has 25 numbers."))
        if any(value < 0 for row in self.deviation for value in row):
            raise ValueError(say("The deviation of grain is not below 0."))
        return self

    @property
    def middle(self) -> tuple[float, float, float]:
        """The deviation of red, green and blue at the level nearest to middle grey."""
        return self.deviation[min(range(len(self.levels)), key=lambda j: abs(self.levels[j] - 0.5))]

    def with_middle(self, channel: int, deviation: float) -> GrainModel:
        """A channel's deviation at middle grey set, and at the other levels by as much."""
        now = self.middle[channel]
        rows = []
        for each in self.deviation:
            values = list(each)
            values[channel] = values[channel] * deviation / now if now > 1e-8 else deviation
            rows.append((values[0], values[1], values[2]))
        return self.but(deviation=tuple(rows))


class GrainMatch(Value):
    """Grain on what is not plate: made anew from a model on every frame, or a scanned clip of it, in the plate's coded
    values. clip_grey : what the clip holds where there is no grain, coded."""

    on: bool = False
    strength: Keyed = _keyed(1.0)
    size: Keyed = _keyed(1.0)
    model: GrainModel = GrainModel()
    clip: str | None = None
    clip_grey: float = Field(default=0.5, ge=0, le=1)
    seed: int = Field(default=1, ge=0, lt=2**31)


class Match(Value):
    """How a zone is made of the plate's light, air, glass and film, in the order of the light's way."""

    on: bool = True
    aim: Aim = Aim()
    tone: ToneMatch = ToneMatch()
    air: AirMatch = AirMatch()
    lens: LensMatch = LensMatch()
    wrap: WrapMatch = WrapMatch()
    grain: GrainMatch = GrainMatch()

    def with_part(self, part: Part, other: Match) -> Match:
        """With one part of another match."""
        return self.but(**{part: getattr(other, part)})
