"""Zones and what is in their stages, and locks. Mattes have a file of their own."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from .base import Value
from .keyed import Keyed
from .shapes import Point

Triple = tuple[Keyed, Keyed, Keyed]


def _keyed(value: float) -> Keyed:
    return Keyed(constant=value)


def _triple(value: float) -> Triple:
    return (_keyed(value), _keyed(value), _keyed(value))


class MatteUse(Value):
    """Which of the shot's mattes a zone is cut by, and whether it is."""

    on: bool = False
    id: str | None = None


class Placement(Value):
    """How a painting hangs in the plate, in plate pixels of the lock's reference frame.

    The painting starts centred on the frame at its own size; it is then scaled, flipped and turned about the
    anchor and moved by (x, y). `width` is its width against its height.
    """

    on: bool = True
    rides: str | None = None
    x: Keyed = _keyed(0.0)
    y: Keyed = _keyed(0.0)
    size: Keyed = _keyed(1.0)
    turn_deg: Keyed = _keyed(0.0)
    width: Keyed = _keyed(1.0)
    flip_across: bool = False
    flip_up: bool = False
    anchor: Point | None = None


class Match(Value):
    """How a zone is fitted to the plate: ASC CDL on scene-linear colour, then air for its distance."""

    on: bool = True
    slope: Triple = _triple(1.0)
    offset: Triple = _triple(0.0)
    power: Triple = _triple(1.0)
    saturation: Keyed = _keyed(1.0)
    air: bool = True


class Zone(Value):
    """A stretch of distance holding one thing. A distance of None is infinity."""

    id: str
    name: str
    source: str
    distance_m: float | None = Field(default=None, gt=0)
    on: bool = True
    matte: MatteUse = MatteUse()
    placement: Placement = Placement()
    match: Match = Match()


class Mark(Value):
    """One tracked point on the reference frame: its patch (half width, half height) and its reach beyond the patch."""

    x: float
    y: float
    patch: Point = (12.0, 12.0)
    reach: Point = (20.0, 20.0)


class LockFrame(Value):
    """A lock on one frame: the motion from the reference frame, where the marks lie, and how sure it is."""

    frame: int
    homography: tuple[float, float, float, float, float, float, float, float, float]
    marks: tuple[Point, ...] = ()
    residual_px: float = 0.0
    confidence: float = 1.0


class Lock(Value):
    """A measured motion that things can ride on.

    A point lock has one mark (position) or two (position, turn, size). `filter_px` blurs the feed before the
    search when above 0 and sharpens it when below.
    """

    id: str
    name: str
    kind: Literal["point"] = "point"
    marks: tuple[Mark, ...] = Field(default=(), max_length=2)
    reference_frame: int
    channel: Literal["luma", "red", "green", "blue", "saturation"] = "luma"
    filter_px: float = Field(default=0.0, ge=-3, le=5)
    least_confidence: float = Field(default=0.6, ge=0, le=1)
    solved: tuple[LockFrame, ...] = ()
    lost: tuple[str, ...] = ()
    quad: tuple[Point, Point, Point, Point] | None = None

    def at(self, frame: int) -> LockFrame | None:
        """The lock on a frame, or None where it is not solved."""
        for entry in self.solved:
            if entry.frame == frame:
                return entry
        return None

    def nearest(self, frame: int) -> LockFrame | None:
        """The lock on the frame, else on the nearest solved one, else None."""
        return min(self.solved, key=lambda entry: (abs(entry.frame - frame), entry.frame), default=None)
