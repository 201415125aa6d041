"""Small pictures of shots that are kept beside the list of recent ones, and pictures as PNG."""

from __future__ import annotations

import base64
import hashlib
import logging
from pathlib import Path

from PySide6.QtCore import QBuffer, QIODevice, QRect, QSize, Qt
from PySide6.QtGui import QColor, QIcon, QImage, QPainter, QPixmap

from ..paths import state_dir, write_whole
from ..words import say
from . import theme
from .apart import apart
from .language import moment

log = logging.getLogger(__name__)
PICTURE = QSize(192, 108)


def picture_path(shot: Path) -> Path:
    """Where the small picture of a recent shot is kept."""
    name = hashlib.blake2b(str(shot.resolve()).encode(errors="surrogateescape"), digest_size=12).hexdigest()
    return state_dir() / "pictures" / f"{name}.png"


def keep_picture(shot: Path, image: QImage | None) -> None:
    """Keeps a small picture of a shot for the start page; without one, whatever is there stays."""
    if image is None or image.isNull():
        return
    path = picture_path(shot)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, as_png(image))
    except OSError as problem:
        log.warning("The picture of %s could not be kept: %s", shot.name, problem)


def kept_of(shot: Path) -> tuple[bytes, float] | None:
    """The small picture of a shot, empty where there is none, and when the shot was written; None where it is gone."""

    def read() -> tuple[bytes, float] | None:
        try:
            changed = shot.stat().st_mtime
        except OSError:
            return None
        try:
            return picture_path(shot).read_bytes(), changed
        except OSError:
            return b"", changed

    return apart(read)


def as_png(image: QImage, size: QSize = PICTURE) -> bytes:
    """A picture made small, as PNG."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    small = image.scaled(size, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation)
    small.save(buffer, "PNG")
    return bytes(buffer.data().data())


def both_pictures(shots: list[tuple[str, Path | None]]) -> QPixmap:
    """Small pictures of files side by side, each with a word and when it was written; those that are not there are
    left out, and a picture that nobody kept is grey."""
    known = ((word, path, kept_of(path)) for word, path in shots if path is not None)
    there = [(word, kept) for word, path, kept in known if kept is not None]
    width, height = PICTURE.width() + 8, PICTURE.height() + 22
    out = QPixmap(max(len(there), 1) * width, height)
    out.fill(Qt.GlobalColor.transparent)
    painter = QPainter(out)
    painter.setFont(theme.font(12))
    for k, (word, (png, changed)) in enumerate(there):
        picture = QPixmap()
        picture.loadFromData(png)
        box = QRect(k * width, 0, PICTURE.width(), PICTURE.height())
        painter.fillRect(box, QColor(theme.GROUND))
        if not picture.isNull():
            small = picture.scaled(
                PICTURE, Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
            painter.drawPixmap(box.center() - small.rect().center(), small)
        when = moment(changed)
        painter.setPen(QColor(theme.TEXT))
        painter.drawText(box.left(), height - 5, f"{say(word)} {when}")
    painter.end()
    return out


def icon_of_png(png: bytes | str) -> QIcon:
    """An icon of a PNG, given as bytes or in base 64; empty where it cannot be read."""
    pixmap = QPixmap()
    pixmap.loadFromData(base64.b64decode(png) if isinstance(png, str) else png)
    return QIcon(pixmap)
