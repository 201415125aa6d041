"""What a person can send along with a report of a fault: the log, and what the program runs on. Nothing else."""

from __future__ import annotations

import platform
import re
import sys
import zipfile
from importlib import metadata
from pathlib import Path

from . import __version__
from .paths import log_path, placed, why_not, written_whole
from .shot.errors import MantleError
from .words import say


class ReportError(MantleError):
    """A report cannot be written: why and what to do."""


def log_files() -> list[Path]:
    """The log and the one before it, where they are there."""
    return [path for path in (log_path(), log_path().with_name(f"{log_path().name}.1")) if path.is_file()]


def machine_words() -> str:
    """Release, system and packages, a line each.

    >>> machine_words().splitlines()[0].startswith("Zonal Mantle ")
    True
    """
    lines = [f"Zonal Mantle {__version__}", f"Python {sys.version.split()[0]}", f"System {platform.platform()}"]
    for name in _packages():
        try:
            lines.append(f"{name} {metadata.version(name)}")
        except metadata.PackageNotFoundError:
            lines.append(f"{name} is not there")
    return "\n".join(lines) + "\n"


def _packages() -> list[str]:
    """The packages that the application needs, as its own description names them."""
    try:
        needed = metadata.requires("zonal-mantle") or []
    except metadata.PackageNotFoundError:  # run from an unpacked copy
        return []
    return [re.split(r"[^A-Za-z0-9_.-]", each)[0] for each in needed if "extra ==" not in each]


def pack(path: Path) -> list[str]:
    """Writes a ZIP file with the log and the words about the machine. Returns the names of what is in it.

    Raises
    ------
    ReportError : it cannot be written.
    """
    try:
        with written_whole(path) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as file:
            file.writestr("machine.txt", machine_words())
            for log in log_files():
                file.write(log, log.name)
            return file.namelist()
    except OSError as problem:
        raise ReportError(
            say(
                "{placed} cannot be written: {why}. Choose another folder.",
                placed=placed(path),
                why=why_not(problem),
            )
        ) from problem
