"""The shot's file: one JSON file, written whole or not at all, with an autosave beside it."""

from __future__ import annotations

import logging
import os
import pwd
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from pydantic import ValidationError

from ..paths import as_text, named, on_disk, placed, sweep_parts, why_not, write_whole
from ..words import say
from .door import json_of, sentence_of, text_of
from .errors import ShotError
from .finish import Finish
from .shot import FORMAT_VERSION, Shot
from .upgrade import upgraded

log = logging.getLogger(__name__)
SUFFIX = ".shot.json"


def to_json(shot: Shot) -> str:
    """The shot as JSON text, indented, with a newline at the end."""
    return shot.model_dump_json(indent=1) + "\n"


def from_json(text: str, where: str = "the shot") -> Shot:
    """A shot from JSON text.

    Raises
    ------
    ShotError : not JSON, not a shot, of a newer version, beyond what a shot may hold, or with a field that is unknown
        or out of range.
    """
    data = json_of(text, where)
    if not isinstance(data, dict) or data.get("format") != "zonal-mantle-shot":
        raise ShotError(say("{where} is not a Zonal Mantle shot.", where=where))
    version = data.get("version")
    if isinstance(version, bool) or not isinstance(version, int) or version < 1:
        raise ShotError(
            say(
                "{where} does not say of which format it is: its version is {version!r:.40}.",
                where=where,
                version=version,
            )
        )
    if version > FORMAT_VERSION:
        raise ShotError(
            say(
                "{where} was written by a newer release (format {version}; this one reads up to "
                "{format_version}). Open it with that release; nothing was changed.",
                where=where,
                version=version,
                format_version=FORMAT_VERSION,
            )
        )
    try:
        return Shot.model_validate(upgraded(data) if version < FORMAT_VERSION else data)
    except ValidationError as problem:
        raise ShotError(
            say(
                "{where} cannot be used: {why}. Nothing was changed.",
                where=where,
                why=sentence_of(problem),
            )
        ) from problem
    except (AttributeError, TypeError, KeyError) as problem:  # parts of another kind than the old format had
        words = say("{where} is not what a shot of format {version} holds", where=where, version=version)
        raise ShotError(
            say("{words}; it may have been changed by hand. Nothing was changed.", words=words)
        ) from problem


def load(path: Path) -> Shot:
    """Reads a shot and makes its sources' paths absolute.

    Raises
    ------
    ShotError : the file is missing or not a readable shot.
    """
    shot = from_json(text_of(path), named(path))
    return absolute(shot, path.resolve().parent)


def absolute(shot: Shot, folder: Path) -> Shot:
    """A shot whose paths are relative to a folder, with paths from the root."""
    beside = as_text(folder)
    return _with_paths(
        shot, lambda path: path if Path(path).is_absolute() else os.path.normpath(os.path.join(beside, path))
    )


def portable(shot: Shot, folder: Path) -> Shot:
    """A shot with paths relative to a folder."""
    beside = as_text(folder)
    return _with_paths(
        shot, lambda path: Path(os.path.relpath(path, beside)).as_posix() if Path(path).is_absolute() else path
    )


def save(shot: Shot, path: Path) -> None:
    """Writes a shot with paths relative to it: a new file, flushed to disk, then renamed over the old one. A link stays
    a link: the file that it leads to is written, beside which its paths count, and keeps who may read and write it.

    Raises
    ------
    ShotError : the place cannot be written; what was there stays as it was.
    """
    try:
        real = path.resolve()
        real.exists()
    except (OSError, RuntimeError, ValueError) as problem:  # links that lead round in a ring, names that cannot be
        raise ShotError(
            say(
                "{placed} cannot be written: {problem}. What was there is unchanged.",
                placed=placed(path),
                problem=problem,
            )
        ) from problem
    sweep_parts(real.parent, real.name)
    try:
        write_whole(real, to_json(portable(shot, real.parent)))
    except (OSError, UnicodeError) as problem:
        raise ShotError(
            say(
                "{placed} cannot be written: {why}. What was there is unchanged.",
                placed=placed(path),
                why=why_not(problem),
            )
        ) from problem


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


def files_named(shot: Shot, path: Path) -> list[tuple[str, bool]]:
    """The files that a shot names, and whether they lie outside of the folder of its own file. None is opened."""
    folder = str(path.resolve().parent)
    named_files = [source.path for source in shot.sources]
    named_files += [
        finish.lut.path for finish in (shot.finish, *(mood.finish for mood in shot.moods)) if finish.lut.path
    ]
    return [(each, os.path.commonpath([folder, os.path.abspath(on_disk(each))]) != folder) for each in named_files]


def autosave_path(path: Path) -> Path:
    """Where the autosave of a shot lies."""
    return path.with_name(path.name + ".autosave")


def newer_autosave(path: Path) -> Path | None:
    """The autosave, if there is one that can be read and is newer than the shot (or the shot is gone)."""
    autosave = autosave_path(path)
    try:
        if path.exists() and autosave.stat().st_mtime_ns <= path.stat().st_mtime_ns:
            return None
        load(autosave)
    except FileNotFoundError:
        return None
    except (OSError, ShotError) as problem:
        log.info("An autosave is not offered: %s", problem)
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
