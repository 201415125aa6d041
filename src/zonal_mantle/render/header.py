"""What an EXR says of itself: colour, pixel shape, rate, timecode, and what the plate's file said of the shooting."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

from ..comp.finish_planner import plate_aspect
from ..media.picture import picture_of
from ..media.still import shooting_notes
from ..shot import Shot

# Rec. 709 primaries and D65: red, green, blue, white (ITU-R BT.709-6, item 1.3)
REC709_CHROMATICITIES = (0.640, 0.330, 0.300, 0.600, 0.150, 0.060, 0.3127, 0.3290)


def exr_header(shot: Shot, frame: int) -> dict[str, Any]:
    """A rendered frame's attributes. The date is the plate's capture date, or none: never that of rendering."""
    source, rate = shot.plate_source, shot.rate
    notes: dict[str, Any] = {}
    if source is not None and source.kind != "video":
        notes = shooting_notes(Path(picture_of(source, frame).path))
    own = {
        "oiio:ColorSpace": "lin_rec709",
        "PixelAspectRatio": shot.finish.output.pixel_aspect or plate_aspect(shot),
        "chromaticities": REC709_CHROMATICITIES,
        "framesPerSecond": (rate.numerator, rate.denominator),
    }
    return {"smpte:TimeCode": (timecode(frame, rate), 0), "DateTime": "", **notes, **own}


def png_header(shot: Shot) -> dict[str, Any]:
    """What a PNG says of the shape of its pixels (pHYs: pixels a unit across and down); nothing where they are
    square."""
    aspect = shot.finish.output.pixel_aspect or plate_aspect(shot)
    if aspect == 1:
        return {}
    return {"XResolution": 1000.0, "YResolution": 1000.0 * aspect, "PixelAspectRatio": aspect}


def timecode(frame: int, rate: Fraction) -> int:
    """Time and control code bits of a frame number, counted on without dropping (SMPTE ST 12-1, section 7): frames,
    seconds, minutes and hours as binary-coded decimals from the lowest byte up.

    Examples
    --------
    >>> hex(timecode(1001, Fraction(24)))
    '0x4117'
    """
    base = max(1, round(rate))
    count, frames = divmod(max(frame, 0), base)
    seconds, minutes, hours = count % 60, count // 60 % 60, count // 3600 % 24

    def decimal(value: int) -> int:
        return value // 10 << 4 | value % 10

    return decimal(hours) << 24 | decimal(minutes) << 16 | decimal(seconds) << 8 | decimal(min(frames, 39))
