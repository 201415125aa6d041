"""Which of a sequence's or video's frames is seen on a frame of the plate."""

from __future__ import annotations

import math

from ..shot.hang import Timing
from ..shot.source import Source


def source_frame(timing: Timing, source: Source, frame: int) -> int | None:
    """The source's frame that a plate's frame shows; None where it is clear.

    Between its frames the one before is taken.
    """
    if source.kind == "still":
        return source.start
    count = source.end - source.start + 1
    since = frame - source.start if timing.start is None else frame - timing.start
    place = math.floor(since * timing.speed + 1e-9) if timing.speed >= 0 else math.ceil(since * timing.speed - 1e-9)
    if timing.speed < 0:
        place += count - 1  # backward: from its last frame
    if 0 <= place < count:
        return source.start + place
    if timing.after == "clear":
        return None
    if timing.after == "loop":
        return source.start + place % count
    if timing.after == "back and forth" and count > 1:
        place %= 2 * count - 2
        return source.start + min(place, 2 * count - 2 - place)
    return source.start + min(max(place, 0), count - 1)
