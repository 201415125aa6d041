"""One picture of a source: all that its pixels depend on, and nothing else."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from ..paths import on_disk
from ..shot.source import Source
from .sequence import frame_path
from .stamps import GONE, Stamp, stamp_of


@dataclass(frozen=True)
class Picture:
    """A still, or one frame of a sequence or video, as it is read.

    path : of its file. index : its place in a video, from 0; 0 elsewhere. stamp : time and size of the file.
    number, wanted, pattern : the frame, the frames that its source uses and its file's name; for sentences only.
    """

    path: str
    kind: Literal["still", "sequence", "video"]
    index: int
    width: int
    height: int
    encoding: str
    alpha: Literal["none", "straight", "premultiplied"]
    stamp: Stamp = GONE
    number: int = field(default=0, compare=False)
    wanted: tuple[int, int] = field(default=(0, 0), compare=False)
    pattern: str = field(default="", compare=False)

    @property
    def name(self) -> str:
        """Its file's name."""
        return Path(self.path).name

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.width, self.height


def file_of(source: Source, frame: int) -> str:
    """The file that holds a source's frame, as it is on disk."""
    return str(frame_path(source.path, frame)) if source.kind == "sequence" else on_disk(source.path)


def picture_of(source: Source, frame: int) -> Picture:
    """A source's picture on one of its own frames; a still gives the same one on every frame."""
    path = file_of(source, frame)
    return Picture(
        path=path,
        kind=source.kind,
        index=frame - source.first if source.kind == "video" else 0,
        width=source.width,
        height=source.height,
        encoding=source.encoding,
        alpha=source.alpha,
        stamp=stamp_of(path),
        number=frame,
        wanted=(source.start, source.end),
        pattern=Path(source.path).name,
    )
