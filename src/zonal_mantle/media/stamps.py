"""Whether a file is still the one that was read: its time and size, and its content."""

from __future__ import annotations

import hashlib
import threading
import time
from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path

Stamp = tuple[int, int]
GONE: Stamp = (0, -1)
FRESH_S = 0.5  # a file is looked at again after this long
_MOST = 20_000

_looked: OrderedDict[str, tuple[float, Stamp]] = OrderedDict()
_contents: OrderedDict[tuple[str, Stamp], str] = OrderedDict()
_guard = threading.Lock()


def stamp_of(path: str, fresh_s: float = FRESH_S) -> Stamp:
    """A file's time of change (ns) and size (bytes), as they were at most `fresh_s` seconds ago; `GONE` without it."""
    now = time.monotonic()
    with _guard:
        known = _looked.get(path)
        if known is not None and now - known[0] <= fresh_s:
            return known[1]
    try:
        stat = Path(path).stat()
        stamp = (stat.st_mtime_ns, stat.st_size)
    except (OSError, ValueError):  # ValueError: a name with a zero byte
        stamp = GONE
    with _guard:
        _looked[path] = (now, stamp)
        _looked.move_to_end(path)
        while len(_looked) > _MOST:
            _looked.popitem(last=False)
    return stamp


def content_of(path: str, stamp: Stamp) -> str:
    """A digest of a file's bytes; worked out once for each time and size. Empty where it cannot be read."""
    key = (path, stamp)
    with _guard:
        if key in _contents:
            return _contents[key]
    digest = hashlib.blake2b(digest_size=16)
    try:
        with Path(path).open("rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
    except OSError:
        return ""
    with _guard:
        _contents[key] = digest.hexdigest()
        while len(_contents) > _MOST:
            _contents.popitem(last=False)
    return digest.hexdigest()


@dataclass(frozen=True)
class UsedFile:
    """A file that something depends on, as it was at a time and size."""

    path: str
    stamp: Stamp


def used_file(path: str) -> UsedFile:
    """A file as it is now."""
    return UsedFile(path, stamp_of(path))
