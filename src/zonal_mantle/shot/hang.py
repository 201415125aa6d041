"""How a zone hangs beyond place and size: ways, time, blending, seam, mirror."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from ..words import say
from .base import Value
from .keyed import Keyed
from .shapes import Point

Way = Literal["flat", "corner pin", "card", "dome"]
WAYS: tuple[Way, ...] = ("flat", "corner pin", "card", "dome")
Rim = Literal["ends", "mirrored", "sky"]
Mapping = Literal["lat-long", "lens"]
Between = Literal["held", "blended", "flow"]
After = Literal["hold", "loop", "back and forth", "clear"]
Mode = Literal[
    "normal", "multiply", "screen", "overlay", "darken", "lighten", "color-dodge", "color-burn", "hard-light",
    "soft-light", "difference", "exclusion", "hue", "saturation", "color", "luminosity", "plus", "minus",
]  # fmt: skip


MOST_SPEED = 20


def _keyed(value: float) -> Keyed:
    return Keyed(constant=value)


class Corner(Value):
    """Where one corner of a painting is pinned, in plate pixels of the lock's reference frame."""

    x: Keyed = _keyed(0.0)
    y: Keyed = _keyed(0.0)


Pins = tuple[Corner, Corner, Corner, Corner]


class Card(Value):
    """A painting standing in the scene, at the zone's distance from the lens of the reference frame.

    Its middle lies `right_m` and `up_m` from that lens's axis; it is `height_m` high, turned about the upright
    (`yaw_deg`), leant back (`pitch_deg`) and rolled clockwise (`roll_deg`); without these it faces the lens.
    """

    right_m: Keyed = _keyed(0.0)
    up_m: Keyed = _keyed(0.0)
    height_m: Keyed = _keyed(10.0)
    yaw_deg: Keyed = _keyed(0.0)
    pitch_deg: Keyed = _keyed(0.0)
    roll_deg: Keyed = _keyed(0.0)


class Dome(Value):
    """A painting at infinity, all around or `wide_deg` of it.

    lat-long: columns are bearings and rows are heights, alike in degrees; lens: as a lens of that field of view sees.
    Its middle lies `turn_deg` to the right of the reference frame's axis and `tilt_deg` above it, rolled clockwise by
    `roll_deg`.
    """

    mapping: Mapping = "lat-long"
    wide_deg: float = Field(default=360.0, gt=0, le=360)
    turn_deg: Keyed = _keyed(0.0)
    tilt_deg: Keyed = _keyed(0.0)
    roll_deg: Keyed = _keyed(0.0)


class Timing(Value):
    """A sequence's or video's own time.

    start : the plate's frame on which its first frame is seen; None: frames go by their numbers.
    own_rate : a second of it lasts a second, whatever the plate's rate; else a frame of it is a frame of the plate.
    speed : how fast it plays; keyed, it is run through from the start on. Below 0 it plays backward from its last
        frame.
    between : what is seen between two of its frames: the one before, held; both, blended; or what optical flow moves
        them to.
    after : what is seen beyond its ends.
    """

    start: int | None = None
    own_rate: bool = True
    speed: Keyed = _keyed(1.0)
    between: Between = "held"
    after: After = "hold"

    @model_validator(mode="after")
    def _in_reach(self) -> Timing:
        if any(abs(value) > MOST_SPEED for value in (self.speed.constant, *(key.value for key in self.speed.keys))):
            raise ValueError(say("A clip's speed lies between -{most_speed} and {most_speed}.", most_speed=MOST_SPEED))
        return self


class Blend(Value):
    """How a zone is laid on what is behind it: a blend mode of the W3C's Compositing and Blending Level 1, in
    scene-linear light or in coded values, and opacity.

    on_old_sky : what lies behind it is the plate's own old sky, as the plate's matte takes it away, rather than the
        zones that are farther.
    """

    mode: Mode = "normal"
    coded: bool = False
    opacity: Keyed = _keyed(1.0)
    on_old_sky: bool = False


class Seam(Value):
    """A fade toward the plate's horizon: over `height_px` above a line `lift_px` over it, to the plate or to haze."""

    on: bool = False
    height_px: Keyed = _keyed(60.0)
    lift_px: Keyed = _keyed(0.0)
    to: Literal["plate", "haze"] = "plate"


class Mirror(Value):
    """The zone seen again in still or moving water, below a line on the picture.

    The line lies in the lock's reference frame; without one it is the plate's horizon. `squeeze` is the height of what
    is mirrored against what stands; `blur_px` grows in a hundred pixels below the line; a ripple of `ripple_px` and
    `ripple_long_px` (at a hundred pixels below it) runs on by `ripple_speed` waves a frame. `matte` limits it.
    `true` mirrors directions at the horizon as level water does (under a pan or camera lock), else the picture at the
    line.
    """

    on: bool = False
    line: tuple[Point, Point] | None = None
    true: bool = False
    squeeze: Keyed = _keyed(1.0)
    blur_px: Keyed = _keyed(0.0)
    ripple_px: Keyed = _keyed(0.0)
    ripple_long_px: float = Field(default=24.0, gt=0, le=2000)
    ripple_speed: float = Field(default=0.08, ge=-2, le=2)
    opacity: Keyed = _keyed(0.6)
    matte: str | None = None
