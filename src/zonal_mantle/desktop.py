"""Puts the application into the desktop's menus, and takes it out again: entry, icons, file type, AppStream data.

References
----------
freedesktop.org: Desktop Entry Specification 1.5, Icon Theme Specification, Shared MIME-info Database, AppStream 1.0.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from importlib import resources
from pathlib import Path

from .paths import write_whole
from .shot.errors import MantleError
from .words import say

ID = "org.zonal_mantle.ZonalMantle"
SIZES = (16, 24, 32, 48, 64, 128, 256)


def data_home() -> Path:
    """Where a person's own desktop data lies (XDG Base Directory Specification)."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def places(home: Path) -> dict[str, Path]:
    """Each shipped file by where it belongs."""
    icons = home / "icons" / "hicolor"
    found = {f"{ID}-{size}.png": icons / f"{size}x{size}" / "apps" / f"{ID}.png" for size in SIZES}
    return {
        f"{ID}.desktop": home / "applications" / f"{ID}.desktop",
        f"{ID}.xml": home / "mime" / "packages" / f"{ID}.xml",
        f"{ID}.metainfo.xml": home / "metainfo" / f"{ID}.metainfo.xml",
        f"{ID}.svg": icons / "scalable" / "apps" / f"{ID}.svg",
        **found,
    }


def install(home: Path | None = None, program: str | None = None) -> list[Path]:
    """Writes all files for this person and tells the desktop. Returns what was written.

    Raises
    ------
    MantleError : a file cannot be written.
    """
    home = home or data_home()
    shipped = resources.files("zonal_mantle") / "assets" / "desktop"
    program = program or shutil.which("zonal-mantle") or sys.argv[0]
    written = []
    for name, path in places(home).items():
        data = (shipped / name).read_bytes()
        if name.endswith(".desktop"):
            data = data.replace(b"Exec=zonal-mantle ", f'Exec="{_quoted(program)}" '.encode())
            data = data.replace(b"TryExec=zonal-mantle", f"TryExec={program}".encode())
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, data)
        except OSError as problem:
            raise MantleError(
                say(
                    "{path} cannot be written: {why}. Free the place and run it again.",
                    path=path,
                    why=problem.strerror,
                )
            ) from problem
        written.append(path)
    _tell(home)
    return written


def remove(home: Path | None = None) -> list[Path]:
    """Takes away what `install` wrote. Returns what was there."""
    home = home or data_home()
    gone = [path for path in places(home).values() if path.exists()]
    for path in gone:
        path.unlink()
    _tell(home)
    return gone


def _quoted(program: str) -> str:
    """A path within the quotes of an Exec key."""
    for letter in '\\"`$':
        program = program.replace(letter, f"\\{letter}")
    return program.replace("%", "%%")


def _tell(home: Path) -> None:
    """Lets the desktop read what changed, as far as its tools are there; without them it does by itself, later."""
    for tool, folder in (
        ("update-desktop-database", home / "applications"),
        ("update-mime-database", home / "mime"),
        ("gtk-update-icon-cache", home / "icons" / "hicolor"),
    ):
        if shutil.which(tool) and folder.is_dir():
            subprocess.run([tool, str(folder)], check=False, capture_output=True)
