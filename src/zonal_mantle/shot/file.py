"""The shot's file: one JSON file, written whole or not at all, with an autosave beside it."""

from __future__ import annotations

import glob
import json
import logging
import os
import pwd
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from pydantic import ValidationError

from .errors import ShotError
from .finish import Finish
from .shot import FORMAT_VERSION, Shot
from .upgrade import upgraded

log = logging.getLogger(__name__)
SUFFIX = ".shot.json"
DEAD_SECONDS = 600.0  # after which nobody still writes a part file


def to_json(shot: Shot) -> str:
    """The shot as JSON text, indented, with a newline at the end."""
    return shot.model_dump_json(indent=1) + "\n"


def from_json(text: str, where: str = "the shot") -> Shot:
    """A shot from JSON text.

    Raises
    ------
    ShotError : not JSON, not a shot, of a newer version, or with a field that is unknown or out of range.
    """
    try:
        data = json.loads(text)
    except json.JSONDecodeError as problem:
        raise ShotError(f"{where} is not readable as JSON: {problem.msg} in line {problem.lineno}.") from problem
    if not isinstance(data, dict) or data.get("format") != "zonal-mantle-shot":
        raise ShotError(f"{where} is not a Zonal Mantle shot.")
    version = data.get("version")
    if not isinstance(version, int) or version > FORMAT_VERSION:
        raise ShotError(
            f"{where} was written by a newer release (format {version}; this one reads up to {FORMAT_VERSION}). "
            "Open it with that release; nothing was changed."
        )
    if version < FORMAT_VERSION:
        data = upgraded(data)
    try:
        return Shot.model_validate(data)
    except ValidationError as problem:
        first = problem.errors()[0]
        place = " › ".join(str(step) for step in first["loc"]) or "the shot"
        raise ShotError(f"{where} cannot be used: {place}: {first['msg']}. Nothing was changed.") from problem


def load(path: Path) -> Shot:
    """Reads a shot and makes its sources' paths absolute.

    Raises
    ------
    ShotError : the file is missing or not a readable shot.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except OSError as problem:
        raise ShotError(f"{path} cannot be read: {problem.strerror}.") from problem
    except UnicodeDecodeError as problem:
        raise ShotError(f"{path} is not a text file.") from problem
    folder = path.resolve().parent
    shot = from_json(text, path.name)
    return _with_paths(shot, lambda path: path if Path(path).is_absolute() else os.path.normpath(folder / path))


def save(shot: Shot, path: Path) -> None:
    """Writes a shot with paths relative to it: a new file, flushed to disk, then renamed over the old one. A link stays
    a link: the file that it leads to is written, beside which its paths count, and keeps who may read and write it.

    Raises
    ------
    ShotError : the place cannot be written; what was there stays as it was.
    """
    try:
        real = path.resolve()
        mode = real.stat().st_mode & 0o777 if real.exists() else 0o644
    except (OSError, RuntimeError) as problem:  # links that lead round in a ring
        raise ShotError(f"{path} cannot be written: {problem}. What was there is unchanged.") from problem
    folder = real.parent
    portable = _with_paths(
        shot, lambda path: Path(os.path.relpath(path, folder)).as_posix() if Path(path).is_absolute() else path
    )
    _sweep(folder, real.name)
    try:
        handle, temporary = tempfile.mkstemp(dir=folder, prefix=f".{real.name}.", suffix=".part")
        try:
            with os.fdopen(handle, "w", encoding="utf-8") as file:
                file.write(to_json(portable))
                file.flush()
                os.fsync(file.fileno())
            os.chmod(temporary, mode)
            os.replace(temporary, real)
        except BaseException:
            Path(temporary).unlink(missing_ok=True)
            raise
    except OSError as problem:
        raise ShotError(f"{path} cannot be written: {problem.strerror}. What was there is unchanged.") from problem


def _sweep(folder: Path, name: str) -> None:
    """Removes what saves of this file left that were killed: part files so old that nobody writes them any more."""
    try:
        for left in folder.glob(f".{glob.escape(name)}.*.part"):
            if time.time() - left.stat().st_mtime > DEAD_SECONDS:
                left.unlink(missing_ok=True)
    except OSError as problem:
        log.info("Part files beside %s were left: %s", name, problem)


class FileState(NamedTuple):
    """How a file stood when it was looked at: by which it is known whether somebody wrote it since."""

    changed_ns: int
    size: int
    inode: int
    owner: str


def file_state(path: Path) -> FileState | None:
    """How a file stands now; None where there is none."""
    try:
        now = path.stat()
    except OSError:
        return None
    try:
        owner = pwd.getpwuid(now.st_uid).pw_name
    except KeyError:
        owner = f"user {now.st_uid}"
    return FileState(now.st_mtime_ns, now.st_size, now.st_ino, owner)


def named_alike(shot: Shot) -> str:
    """What makes the shot's pictures, as JSON text with its files' names alone: alike wherever it and its files lie,
    and whatever is noted in it."""
    return to_json(_with_paths(shot.but(notes=(), set_aside=(), states=()), lambda path: Path(path).name))


def autosave_path(path: Path) -> Path:
    """Where the autosave of a shot lies."""
    return path.with_name(path.name + ".autosave")


def newer_autosave(path: Path) -> Path | None:
    """The autosave, if there is one and it is newer than the shot (or the shot is gone)."""
    autosave = autosave_path(path)
    if not autosave.exists():
        return None
    if path.exists() and autosave.stat().st_mtime_ns <= path.stat().st_mtime_ns:
        return None
    return autosave


def _with_paths(shot: Shot, change: Callable[[str], str]) -> Shot:
    """A shot with all paths in it changed."""

    def finish(old: Finish) -> Finish:
        return old.but(lut=old.lut.but(path=change(old.lut.path))) if old.lut.path else old

    return shot.but(
        sources=tuple(source.but(path=change(source.path)) for source in shot.sources),
        finish=finish(shot.finish),
        moods=tuple(mood.but(finish=finish(mood.finish)) for mood in shot.moods),
    )
