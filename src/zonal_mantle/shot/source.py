"""Sources: what the shot reads from disk."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import Literal

from pydantic import Field, model_validator

from ..words import say
from .base import Value
from .guides import Line
from .limits import FARTHEST_FRAME, MOST_FRAMES, MOST_PATH, MOST_PIXELS, MOST_SIDE
from .shapes import Point

NUMBERED = re.compile(r"%0?([1-9]|1[0-2])?d(?=\.[A-Za-z0-9]+$)")  # the frame's number in a sequence's path


class Source(Value):
    """A still, a numbered sequence or a video.

    `path` is relative to the shot's file when it can be, as `paths.as_text` tells it; a sequence's has its number as
    `%04d`, just before its ending.
    Frames are numbered as in the file names; a video's first frame is `first`.
    `lines` are drawn on it, in its pixels; `sun` is where a person says that its light is, else it is looked for.
    """

    id: str
    name: str
    path: str = Field(min_length=1, max_length=MOST_PATH)
    kind: Literal["still", "sequence", "video"]
    width: int = Field(gt=0, le=MOST_SIDE)
    height: int = Field(gt=0, le=MOST_SIDE)
    first: int = Field(default=1, ge=-FARTHEST_FRAME, le=FARTHEST_FRAME)
    last: int = Field(default=1, ge=-FARTHEST_FRAME, le=FARTHEST_FRAME)
    trim_first: int | None = None
    trim_last: int | None = None
    rate: tuple[int, int] = (24, 1)
    pixel_aspect: float = Field(default=1.0, ge=0.05, le=20)
    encoding: str = "sRGB"
    encoding_guessed: bool = True
    alpha: Literal["none", "straight", "premultiplied"] = "none"
    lines: tuple[Line, ...] = ()
    sun: Point | None = None

    @model_validator(mode="after")
    def _can_be_read(self) -> Source:
        if "\0" in self.path:
            raise ValueError(say("a path with a zero character is that of no file."))
        if self.width * self.height > MOST_PIXELS:
            raise ValueError(
                say(
                    "{width}×{height} is more than the {most_pixels} megapixels possible.",
                    width=self.width,
                    height=self.height,
                    most_pixels=MOST_PIXELS // 10**6,
                )
            )
        if self.last < self.first:
            raise ValueError(
                say("its last frame, {last}, comes before its first, {first}.", last=self.last, first=self.first)
            )
        if self.last - self.first >= MOST_FRAMES:
            raise ValueError(
                say(
                    "{last} frames are more than the {most_frames} possible.",
                    last=self.last - self.first + 1,
                    most_frames=MOST_FRAMES,
                )
            )
        if self.kind == "sequence" and NUMBERED.search(self.path) is None:
            raise ValueError(say("a sequence's path needs its frame number as %04d just before its ending."))
        if self.rate[0] <= 0 or self.rate[1] <= 0:
            raise ValueError(
                say(
                    "a rate of {rate}/{rate_2} frames a second is not possible.", rate=self.rate[0], rate_2=self.rate[1]
                )
            )
        return self

    @property
    def start(self) -> int:
        """First frame that is used."""
        return self.first if self.trim_first is None else max(self.first, self.trim_first)

    @property
    def end(self) -> int:
        """Last frame that is used."""
        return self.last if self.trim_last is None else min(self.last, self.trim_last)

    @property
    def frames_per_second(self) -> Fraction:
        """The rate as a fraction."""
        return Fraction(*self.rate)
