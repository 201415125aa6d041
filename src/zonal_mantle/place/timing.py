"""Where in a sequence or video a frame of the plate looks."""

from __future__ import annotations

import math

from ..shot.hang import Timing
from ..shot.keyed import Keyed
from ..shot.shot import Shot
from ..shot.source import Source
from ..shot.zone import Zone

ROUNDING = 1e-6  # of a frame


def source_place(timing: Timing, source: Source, frame: int, frames_each: float = 1.0) -> float | None:
    """Where between its first frame (0) and its last a frame of the plate looks; None where the clip is clear.

    Parameters
    ----------
    frames_each : frames of the clip to one of the plate at speed 1.

    Keyed speed is run through by the trapezoid rule from frame to frame: exact on straight stretches.

    Examples
    --------
    >>> clip = Source(id="a", name="a", path="a.mov", kind="video", width=1, height=1, first=1, last=50, rate=(25, 1))
    >>> source_place(Timing(start=1001), clip, 1025, 25 / 24)
    25.0
    """
    count = source.end - source.start + 1
    start = source.start if timing.start is None else timing.start
    place = _run(timing.speed, start, frame) * frames_each
    if _backward(timing, start):
        place += count - 1
    if abs(place - round(place)) < ROUNDING:
        place = float(round(place))
    # the last frame that it comes to is seen until another would be due
    inside = -1 < place <= count - 1 if _backward(timing, start) else 0 <= place < count
    if timing.after == "clear":
        return min(max(place, 0.0), count - 1.0) if inside else None
    if timing.after == "loop":
        return place % count
    if timing.after == "back and forth" and count > 1:
        place %= 2 * count - 2
        return min(place, 2 * count - 2 - place)
    return min(max(place, 0.0), count - 1.0)


def _run(speed: Keyed, start: int, frame: int) -> float:
    """Speed summed up from one frame to another."""
    if not speed.keys:
        return (frame - start) * speed.constant
    low, high = min(start, frame), max(start, frame)
    values = [speed.at(each) for each in range(low, high + 1)]
    run = math.fsum((a + b) / 2 for a, b in zip(values, values[1:]))
    return run if frame >= start else -run


def _backward(timing: Timing, start: int) -> bool:
    return timing.speed.at(start) < 0


def source_frame(timing: Timing, source: Source, frame: int, frames_each: float = 1.0) -> int | None:
    """The source's frame that a plate's frame shows; None where it is clear. Between its frames the one before, in the
    direction that it plays, is taken."""
    if source.kind == "still":
        return source.start
    place = source_place(timing, source, frame, frames_each)
    if place is None:
        return None
    start = source.start if timing.start is None else timing.start
    held = math.ceil(place) if _backward(timing, start) else math.floor(place)
    return source.start + held % (source.end - source.start + 1)


def frames_each(shot: Shot, zone: Zone) -> float:
    """Frames of a zone's clip to one of the plate at speed 1."""
    source = shot.source(zone.source)
    return float(source.frames_per_second / shot.rate) if zone.timing.own_rate and shot.rate else 1.0


def zone_frame(shot: Shot, zone: Zone, frame: int) -> int | None:
    """The frame of a zone's source that is shown on one of the shot's; see `source_frame`."""
    return source_frame(zone.timing, shot.source(zone.source), frame, frames_each(shot, zone))


def zone_between(shot: Shot, zone: Zone, frame: int) -> tuple[int, int, float] | None:
    """The two frames of a zone's source that a frame of the shot lies between, and how far it is on from the first,
    0…1; None where one frame is shown, or none."""
    source, timing = shot.source(zone.source), zone.timing
    if source.kind == "still" or timing.between == "held":
        return None
    place = source_place(timing, source, frame, frames_each(shot, zone))
    if place is None or place == math.floor(place):
        return None
    count = source.end - source.start + 1
    before = math.floor(place)
    after = (before + 1) % count if timing.after == "loop" else min(before + 1, count - 1)
    return (source.start + before, source.start + after, place - before) if after != before else None
