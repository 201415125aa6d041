"""Recent shots, and where the autosave of an unnamed shot lies."""

from __future__ import annotations

import json
import logging
from pathlib import Path

from ..paths import state_dir, write_whole
from .apart import apart

log = logging.getLogger(__name__)
MOST = 10


def recent_shots() -> list[Path]:
    """Shots opened or saved lately that are still there, newest first."""
    return apart(_read)


def _read() -> list[Path]:
    try:
        paths = json.loads((state_dir() / "recent.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return []
    return [Path(path) for path in paths if isinstance(path, str) and Path(path).exists()]


def remember(path: Path) -> None:
    """Puts a shot at the head of the list."""
    apart(lambda: _remember(path.resolve()))


def _remember(path: Path) -> None:
    paths = [path, *(other for other in _read() if other != path)][:MOST]
    try:
        write_whole(state_dir() / "recent.json", json.dumps([str(p) for p in paths]) + "\n")
    except (OSError, UnicodeError) as problem:  # a full disk, or a name that is not text: the list stays as it was
        log.warning("The list of recent shots could not be kept: %s", problem)


def unnamed_autosave() -> Path:
    """The autosave of a shot that has no file yet."""
    return state_dir() / "unnamed.shot.json.autosave"
