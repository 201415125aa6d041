"""A file beside a shot that tells others that it is open: by whom, where, since when. One whose program is gone, or has
not said for long that it is there, is stale and does not count."""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import json
import logging
import os
import socket
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path

from ..paths import write_whole
from ..words import say

log = logging.getLogger(__name__)
STALE_SECONDS = 180.0  # a program elsewhere that has not renewed its mark for this long is taken to be gone
MOST_BYTES = 4096


@dataclass(frozen=True)
class Opened:
    """Who has a shot open: user, machine, process, when that process started (clock ticks since the machine did, see
    proc(5)), and since when it is open (seconds since 1970)."""

    user: str
    machine: str
    process: int
    started: int
    since: float

    def __str__(self) -> str:
        when = time.strftime("%-d %b, %H:%M", time.localtime(self.since))
        return say("{user} on {machine}, since {when}", user=self.user, machine=self.machine, when=when)


def mark_path(path: Path) -> Path:
    """Where the mark of a shot lies."""
    return path.with_name(f".{path.name[:80]}.open")


def opened_by_others(path: Path, now: float | None = None) -> Opened | None:
    """Who else has a shot open; None where nobody has, or a mark is stale."""
    mark = mark_path(path)
    found, own = _read(mark), _own()
    if found is None or _is_same(found, own):
        return None
    if found.machine == own.machine:
        return found if _started(found.process) == found.started else None
    try:
        age = (time.time() if now is None else now) - mark.stat().st_mtime
    except OSError:
        return None
    return found if abs(age) < STALE_SECONDS else None


def mark_opened(path: Path) -> None:
    """Tells others that a shot is open here, or goes on telling it. Of two programs at once one is first. Where nothing
    can be written, nobody is told."""
    try:
        with _alone_in(path.parent):
            if opened_by_others(path) is None:
                write_whole(mark_path(path), json.dumps(asdict(_own())) + "\n", 0o644)
    except OSError as problem:
        log.info("Nobody is told that %s is open: %s", path, problem)


@contextlib.contextmanager
def _alone_in(folder: Path) -> Iterator[None]:
    """No other program of ours lays a mark in a folder meanwhile (flock(2)). Where that cannot be had, or not within
    a second, one goes on without."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        end = time.monotonic() + 1
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                if time.monotonic() < end:
                    time.sleep(0.005)
                    continue
            except OSError:
                pass
            break
        yield
    finally:
        os.close(handle)


def _read(mark: Path) -> Opened | None:
    """What a mark says; None where it is not there, or no mark of ours."""
    try:
        with mark.open("rb") as file:
            found = Opened(**json.loads(file.read(MOST_BYTES)))
    except (OSError, ValueError, TypeError):
        return None
    fields = (found.user, found.machine, found.process, found.started, found.since)
    if [type(field) for field in fields[:4]] != [str, str, int, int] or not isinstance(found.since, int | float):
        return None
    return found


def _is_same(one: Opened, other: Opened) -> bool:
    return (one.machine, one.process, one.started) == (other.machine, other.process, other.started)


def unmark_opened(path: Path) -> None:
    """A shot is not open here any more. The mark of somebody else stays."""
    if opened_by_others(path) is None:
        try:
            mark_path(path).unlink(missing_ok=True)
        except OSError as problem:
            log.info("%s: %s", mark_path(path), problem)


def _own() -> Opened:
    try:
        user = getpass.getuser()
    except (KeyError, OSError):
        user = f"user {os.getuid()}"
    return Opened(user, socket.gethostname(), os.getpid(), _started(os.getpid()), round(time.time(), 1))


def _started(process: int) -> int:
    """When a process of this machine started; 0 where there is none."""
    try:
        text = Path(f"/proc/{process}/stat").read_text()
        return int(text.rpartition(")")[2].split()[19])
    except (OSError, ValueError, IndexError):
        return 0
