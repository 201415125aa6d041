"""What a frame on disk was made from, so that a render that goes on keeps only what still stands for it."""

from __future__ import annotations

import hashlib
from pathlib import Path

from ..media.picture import file_of, picture_of
from ..media.stamps import content_of, stamp_of
from ..media.still import PLAN, text_attribute
from ..paths import on_disk
from ..shot import Shot, Source
from ..shot.file import named_alike

LOOKS = 1  # one more wherever a release renders the same shot otherwise


class PlanDigests:
    """Names what the frames of one render are made from: the whole shot, how it is written, the size of every file
    that it uses, and the content of those that are seen on the frame. Where those files lie and when they were copied
    does not count."""

    def __init__(self, shot: Shot, scale: float, kind: str) -> None:
        self._shot = shot
        files = [str(_size(path)) for source in shot.sources for path in _files(source)]
        lut = on_disk(shot.finish.lut.path)
        files += [content_of(lut, stamp_of(lut, 0))] if lut else []
        self._all = f"{LOOKS} {kind} {scale:.9g} {named_alike(shot)} {files}"

    def of(self, frame: int) -> str:
        """The name of what a frame is made from."""
        maker = hashlib.blake2b(f"{frame} {self._all}".encode(), digest_size=16)
        for source in self._shot.sources:
            on = frame if source == self._shot.plate_source else source.start
            path = picture_of(source, on).path
            maker.update(content_of(path, stamp_of(path, 0)).encode())
        return maker.hexdigest()


def stands_for(path: Path, digest: str) -> bool:
    """Whether a frame on disk says that it was made from that."""
    return text_attribute(path, PLAN) == digest


def _files(source: Source) -> list[str]:
    frames = range(source.start, source.end + 1) if source.kind == "sequence" else range(source.start, source.start + 1)
    return [file_of(source, frame) for frame in frames]


def _size(path: str) -> int:
    return stamp_of(path, 0)[1]
