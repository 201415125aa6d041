"""Sources: what the shot reads from disk."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal

from pydantic import Field

from .base import Value
from .guides import Line
from .shapes import Point


class Source(Value):
    """A still, a numbered sequence or a video.

    `path` is relative to the shot's file when it can be; a sequence's path has its number as `%04d`.
    Frames are numbered as in the file names; a video's first frame is `first`.
    `lines` are drawn on it, in its pixels; `sun` is where a person says that its light is, else it is looked for.
    """

    id: str
    name: str
    path: str
    kind: Literal["still", "sequence", "video"]
    width: int = Field(gt=0)
    height: int = Field(gt=0)
    first: int = 1
    last: int = 1
    trim_first: int | None = None
    trim_last: int | None = None
    rate: tuple[int, int] = (24, 1)
    pixel_aspect: float = Field(default=1.0, gt=0)
    encoding: str = "sRGB"
    encoding_guessed: bool = True
    alpha: Literal["none", "straight", "premultiplied"] = "none"
    lines: tuple[Line, ...] = ()
    sun: Point | None = None

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
