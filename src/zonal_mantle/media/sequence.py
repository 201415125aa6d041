"""Numbered sequences: finding their frames and naming the missing ones."""

from __future__ import annotations

import re
from pathlib import Path

_NUMBER = re.compile(r"^(?P<stem>.*?)(?P<number>\d+)(?P<suffix>\.[A-Za-z0-9]+)$")
_PATTERN = re.compile(r"^(?P<stem>.*?)%0?(?P<digits>\d*)d(?P<suffix>\.[A-Za-z0-9]+)$")


def is_pattern(path: str) -> bool:
    """Whether a path has a frame number as `%04d`."""
    return _PATTERN.match(Path(path).name) is not None


def frame_path(pattern: str, frame: int) -> Path:
    """The file of a frame."""
    path = Path(pattern)
    return path.with_name(path.name % frame)


def pattern_of(path: Path) -> str | None:
    """The pattern a numbered file belongs to, such as `plate.%04d.exr`; None for a name without number."""
    match = _NUMBER.match(path.name)
    if match is None:
        return None
    return str(path.with_name(f"{match['stem']}%0{len(match['number'])}d{match['suffix']}"))


def frames_of(pattern: str) -> list[int]:
    """The frame numbers that are on disk, sorted."""
    path = Path(pattern)
    match = _PATTERN.match(path.name)
    if match is None or not path.parent.is_dir():
        return []
    digits = int(match["digits"] or 1)
    name = re.compile(re.escape(match["stem"]) + rf"(\d{{{digits},}})" + re.escape(match["suffix"]) + "$")
    found = (name.match(entry.name) for entry in path.parent.iterdir())
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
