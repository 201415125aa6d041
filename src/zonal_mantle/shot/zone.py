"""Zones and what is in their stages. Mattes and locks have files of their own."""

from __future__ import annotations

from pydantic import Field

from .base import Value
from .finish import LookUse
from .follow import Follow
from .hang import Blend, Card, Corner, Dome, Mirror, Pins, Rim, Seam, Timing, Way
from .keyed import Keyed
from .match import Match
from .shapes import Point


def _keyed(value: float) -> Keyed:
    return Keyed(constant=value)


class MatteUse(Value):
    """Which of the shot's mattes a zone is cut by, and whether it is."""

    on: bool = False
    id: str | None = None


class Placement(Value):
    """How a painting hangs in the plate, in plate pixels of the lock's reference frame.

    flat: by x, y, size, turn and width about the anchor; corner pin: by four corners; card: in metres at the zone's
    distance; dome: at infinity by its field of view. Flips and `rim`, what is seen beyond the painting's rim, go
    with all of them. `follow` says which parts of the lock's motion it takes. A flat painting starts centred on the
    frame at its own size; it is then scaled, flipped and turned about the anchor and moved by (x, y). `width` is its
    width against its height. What a matte leaves of the plate can be moved so too, flat; under a lock it keeps its
    place in the scene.
    """

    on: bool = True
    way: Way = "flat"
    rides: str | None = None
    x: Keyed = _keyed(0.0)
    y: Keyed = _keyed(0.0)
    size: Keyed = _keyed(1.0)
    turn_deg: Keyed = _keyed(0.0)
    width: Keyed = _keyed(1.0)
    flip_across: bool = False
    flip_up: bool = False
    anchor: Point | None = None
    follow: Follow = Follow()
    pins: Pins = (Corner(), Corner(), Corner(), Corner())
    card: Card = Card()
    dome: Dome = Dome()
    rim: Rim = "ends"


class Zone(Value):
    """A stretch of distance holding one thing. A distance of None is infinity. Zones of one `group` (its id) are
    handled as one. A `look` is laid on it after its match's own tone.

    It is in the picture from its `first` to its `last` frame, on all frames where these are None.
    """

    id: str
    name: str
    source: str
    distance_m: float | None = Field(default=None, gt=0)
    on: bool = True
    first: int | None = None
    last: int | None = None
    matte: MatteUse = MatteUse()
    placement: Placement = Placement()
    match: Match = Match()
    timing: Timing = Timing()
    blend: Blend = Blend()
    seam: Seam = Seam()
    mirror: Mirror = Mirror()
    group: str | None = None
    look: LookUse | None = None

    def is_seen(self, frame: int) -> bool:
        """Whether it is switched on and in the picture on a frame."""
        after = self.first is None or frame >= self.first
        return self.on and after and (self.last is None or frame <= self.last)
