"""The last states of a shot by time, in a folder beside its file: to look at and to take back, also after the program
was killed. Small (compressed), and never more than MOST of them."""

from __future__ import annotations

import logging
import shutil
import zlib
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from ..paths import named, sweep_parts, write_whole
from ..words import say
from .errors import ShotError
from .file import absolute, from_json, portable, to_json
from .limits import MOST_BYTES
from .shot import Shot

log = logging.getLogger(__name__)
MOST = 20
MOST_FOLDER_BYTES = 64 << 20
EVERY_SECONDS = 120.0  # between two of them
SUFFIX, PICTURE = ".json.z", ".png"
STAMP = "%Y%m%dT%H%M%S"


@dataclass(frozen=True)
class Past:
    """A state of the past: when it was kept, and its file."""

    when: datetime
    file: Path

    @property
    def picture(self) -> Path:
        """Where a small picture of it lies, as PNG, if one was kept."""
        return self.file.with_name(self.file.name.removesuffix(SUFFIX) + PICTURE)

    def forget(self) -> None:
        """Removes it."""
        self.file.unlink(missing_ok=True)
        self.picture.unlink(missing_ok=True)


def past_folder(path: Path) -> Path:
    """Where the past of a shot's file lies."""
    return path.with_name(f".{path.name[:80]}.past")


def past_of(path: Path) -> list[Past]:
    """What is there of a shot's past, newest first."""
    found = []
    try:
        files = list(past_folder(path).glob(f"*{SUFFIX}"))
    except OSError:
        return []
    for file in files:
        if (when := _time_of(file.name.removesuffix(SUFFIX))) is not None:
            found.append(Past(when, file))
    return sorted(found, key=lambda past: past.when, reverse=True)


def keep_past(shot: Shot, path: Path, now: datetime | None = None, picture: bytes = b"") -> bool:
    """Keeps a state of a shot, where the last one is EVERY_SECONDS old and another; False where it is not kept. A
    clock that was set back does not hold it up. What the shot's own states hold is left out.

    Parameters
    ----------
    picture : a small picture of it, as PNG; without one there are words alone.

    Raises
    ------
    ShotError : it cannot be written; the shot itself is not touched.
    """
    now = (now or datetime.now()).replace(microsecond=0)
    there = past_of(path)
    if there and 0 <= (now - there[0].when).total_seconds() < EVERY_SECONDS:
        return False
    text = to_json(portable(shot.but(states=()), path.resolve().parent))
    if there and _text(there[0].file) == text:
        return False
    folder = past_folder(path)
    try:
        folder.mkdir(exist_ok=True)
        kept = Past(now, folder / f"{now.strftime(STAMP)}{SUFFIX}")
        if picture:
            write_whole(kept.picture, picture)
        write_whole(kept.file, zlib.compress(text.encode(), 6))
        held = 0
        for number, past in enumerate(past_of(path)):
            held += past.file.stat().st_size + (past.picture.stat().st_size if past.picture.exists() else 0)
            if number >= MOST or (held > MOST_FOLDER_BYTES and number > 0):
                past.forget()
        _sweep(path)
    except OSError as problem:
        raise ShotError(
            say("The past of {named} cannot be kept: {why}.", named=named(path), why=problem.strerror)
        ) from problem
    return True


def shot_of_past(past: Past, path: Path, now: Shot | None = None) -> Shot:
    """The shot as it was; with the states that it has `now`.

    Raises
    ------
    ShotError : the file is damaged or gone.
    """
    where = say("The state of {when:%H:%M:%S}", when=past.when)
    text = _text(past.file)
    if text is None:
        raise ShotError(say("{where} is damaged or gone, and cannot be read. Choose another.", where=where))
    shot = absolute(from_json(text, where), path.resolve().parent)
    return shot if now is None else shot.but(states=now.states)


def _sweep(path: Path) -> None:
    """Removes what programs that were killed left: parts, and pictures of no state."""
    folder = past_folder(path)
    sweep_parts(folder, "")
    pictures = {past.picture for past in past_of(path)}
    for left in folder.glob(f"*{PICTURE}"):
        if left not in pictures and _time_of(left.name.removesuffix(PICTURE)) is not None:
            left.unlink(missing_ok=True)


def forget_past(path: Path) -> None:
    """Removes the past of a shot's file."""
    shutil.rmtree(past_folder(path), ignore_errors=True)


def _time_of(stamp: str) -> datetime | None:
    """The time that a file's name says; None where it is not of ours."""
    try:
        return datetime.strptime(stamp, STAMP)
    except ValueError:
        return None


def _text(file: Path) -> str | None:
    """The text of a state; None where it is damaged, gone, or larger than a shot can be."""
    try:
        with file.open("rb") as opened:
            data = opened.read(MOST_BYTES)
        unpacker = zlib.decompressobj()
        text = unpacker.decompress(data, MOST_BYTES)
        return text.decode() if unpacker.eof else None
    except (OSError, zlib.error, UnicodeDecodeError) as problem:
        log.info("%s: %s", file, problem)
        return None
