"""Numbered sequences: finding their frames and naming the missing ones."""

from __future__ import annotations

import os
import re
from pathlib import Path

from ..paths import on_disk
from ..shot.source import NUMBERED

_VERSION = re.compile(r"(^|[^A-Za-z])[vV]$")  # before a number: a version, by common practice, no frame
_NUMBER = re.compile(r"^(?P<stem>.*?)(?P<number>\d+)(?P<suffix>\.[A-Za-z0-9]+)$")


def is_pattern(path: str) -> bool:
    """Whether a path has a frame number as `%04d`."""
    return NUMBERED.search(path) is not None


def name_of_pattern(pattern: str) -> str:
    """What a sequence is called: its file's name before the number."""
    name = Path(pattern).name
    match = NUMBERED.search(name)
    return (name[: match.start()] if match else name).rstrip("._- ") or name


def frame_path(pattern: str, frame: int) -> Path:
    """The file of a frame, as it is on disk."""
    return Path(on_disk(NUMBERED.sub(lambda match: f"{frame:0{int(match[1] or 1)}d}", pattern)))


def pattern_of(path: Path) -> str | None:
    """The pattern a numbered file belongs to, such as `plate.%04d.exr`; None for a name without number, or with that
    of a version only.

    >>> pattern_of(Path("sky.0012.exr")), pattern_of(Path("sky_v2.exr"))
    ('sky.%04d.exr', None)
    """
    match = _NUMBER.match(path.name)
    if match is None or len(match["number"]) > 12 or _VERSION.search(match["stem"]):
        return None
    return str(path.with_name(f"{match['stem']}%0{len(match['number'])}d{match['suffix']}"))


def frames_of(pattern: str) -> list[int]:
    """The frame numbers that are on disk, sorted."""
    path = Path(on_disk(pattern))
    match = NUMBERED.search(path.name)
    if match is None:
        return []
    digits = int(match[1] or 1)
    stem, suffix = path.name[: match.start()], path.name[match.end() :]
    name = re.compile(re.escape(stem) + rf"(\d{{{digits},12}})" + re.escape(suffix) + "$")
    try:
        with os.scandir(path.parent) as entries:
            found = [name.match(entry.name) for entry in entries]
    except OSError:
        return []
    return sorted(int(m[1]) for m in found if m)


def spans(frames: list[int]) -> str:
    """Frame numbers as text: `1003, 1007–1009`."""
    parts: list[str] = []
    start = previous = None
    for frame in [*sorted(frames), None]:  # type: ignore[list-item]
        if previous is not None and frame == previous + 1:
            previous = frame
            continue
        if start is not None:
            parts.append(f"{start}" if start == previous else f"{start}–{previous}")
        start = previous = frame
    return ", ".join(parts)
