"""The last states of a shot by time, in a folder beside its file: to look at and to take back, also after the program
was killed. Small (compressed), and never more than MOST of them."""

from __future__ import annotations

import logging
import shutil
import zlib
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from ..paths import named, write_whole
from .errors import ShotError
from .file import absolute, from_json, portable, to_json
from .limits import MOST_BYTES
from .shot import Shot

log = logging.getLogger(__name__)
MOST = 20
MOST_FOLDER_BYTES = 64 << 20
EVERY_SECONDS = 120.0  # between two of them
SUFFIX = ".json.z"
STAMP = "%Y%m%dT%H%M%S"


@dataclass(frozen=True)
class Past:
    """A state of the past: when it was kept, and its file."""

    when: datetime
    file: Path


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
        try:
            found.append(Past(datetime.strptime(file.name.removesuffix(SUFFIX), STAMP), file))
        except ValueError:
            continue
    return sorted(found, key=lambda past: past.when, reverse=True)


def keep_past(shot: Shot, path: Path, now: datetime | None = None) -> bool:
    """Keeps a state of a shot, where the last one is EVERY_SECONDS old and another; False where it is not kept. A
    clock that was set back does not hold it up. What the shot's own states hold is left out.

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
        write_whole(folder / f"{now.strftime(STAMP)}{SUFFIX}", zlib.compress(text.encode(), 6))
        held = 0
        for number, past in enumerate(past_of(path)):
            held += past.file.stat().st_size
            if number >= MOST or (held > MOST_FOLDER_BYTES and number > 0):
                past.file.unlink(missing_ok=True)
    except OSError as problem:
        raise ShotError(f"The past of {named(path)} cannot be kept: {problem.strerror}.") from problem
    return True


def shot_of_past(past: Past, path: Path, now: Shot | None = None) -> Shot:
    """The shot as it was; with the states that it has `now`.

    Raises
    ------
    ShotError : the file is damaged or gone.
    """
    where = f"The state of {past.when:%H:%M:%S}"
    text = _text(past.file)
    if text is None:
        raise ShotError(f"{where} is damaged or gone, and cannot be read. Choose another.")
    shot = absolute(from_json(text, where), path.resolve().parent)
    return shot if now is None else shot.but(states=now.states)


def forget_past(path: Path) -> None:
    """Removes the past of a shot's file."""
    shutil.rmtree(past_folder(path), ignore_errors=True)


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
