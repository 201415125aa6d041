"""Asking for files."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from ..words import say

PICTURES = (
    "Pictures and video (*.exr *.dpx *.tif *.tiff *.png *.jpg *.jpeg *.hdr *.webp *.mp4 *.mov *.mkv *.m4v);;"
    "All files (*)"
)
CDLS = "ASC CDL (*.cc *.ccc *.cdl);;All files (*)"
TONES = "ASC CDL (*.cc *.ccc *.cdl);;Whole tone (*.clf *.cube)"
LUTS = "LUTs (*.cube *.clf *.ctf);;All files (*)"
LOOKS = "Looks (*.look.json);;All files (*)"
SHOTS = "Shots (*.shot.json);;All files (*)"


def _dialog(parent: QWidget, title: str, start: Path | None) -> QFileDialog:
    dialog = QFileDialog(parent, say(title), str(start or Path.home()))
    dialog.setOption(QFileDialog.Option.DontUseNativeDialog)
    return dialog


def _run(dialog: QFileDialog) -> Path | None:
    chosen = dialog.selectedFiles() if dialog.exec() else []
    dialog.deleteLater()
    return Path(chosen[0]) if chosen else None


def existing_file(parent: QWidget, title: str, filters: str, start: Path | None = None) -> Path | None:
    """A file that is there, or None."""
    dialog = _dialog(parent, title, start)
    dialog.setFileMode(QFileDialog.FileMode.ExistingFile)
    dialog.setNameFilter(say(filters))
    return _run(dialog)


def new_file(parent: QWidget, title: str, filters: str, suffix: str, start: Path | None = None) -> Path | None:
    """A file to write, or None. The dialog asks before an existing one is replaced."""
    dialog = _dialog(parent, title, start.parent if start else None)
    dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
    dialog.setFileMode(QFileDialog.FileMode.AnyFile)
    dialog.setNameFilter(say(filters))
    if start is not None:
        dialog.selectFile(start.name)
    path = _run(dialog)
    if path is not None and not path.name.endswith(suffix):
        path = path.with_name(path.name + suffix)
    return path


def folder(parent: QWidget, title: str, start: Path | None = None) -> Path | None:
    """A folder, or None."""
    dialog = _dialog(parent, title, start)
    dialog.setFileMode(QFileDialog.FileMode.Directory)
    dialog.setOption(QFileDialog.Option.ShowDirsOnly)
    return _run(dialog)
