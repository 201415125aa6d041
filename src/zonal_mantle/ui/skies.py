"""The skies of the library in the stock: listed by how well they fit the plate."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from PySide6.QtCore import QMimeData, QSize, Qt, QUrl
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import QListWidget, QListWidgetItem

from ..comp.fits import Fit, fits_this_plate
from ..comp.views import show
from ..media import open_source
from ..paths import cache_dir
from ..shot import Line, MantleError, Source
from ..skies import SkyCard, make_library, read_library
from ..skies.library import VERSION
from . import theme
from .desk import Desk
from .widgets import THUMB, as_shelf


def library_folder() -> Path:
    """Where the library is kept."""
    return cache_dir() / f"skies-{VERSION}"


def card_of(path: Path) -> SkyCard | None:
    """The library's card of a file, or None where it is another file."""
    if path.parent != library_folder():
        return None
    return next((card for card in read_library(library_folder()) or [] if card.file == path.name), None)


def source_of(card: SkyCard, id: str) -> Source:
    """A sky of the library as a source, with its horizon and its sun.

    Raises
    ------
    MediaError : it cannot be read.
    """
    source = open_source(library_folder() / card.file, id, as_still=True).but(name=card.name)
    width, height = card.size
    y = card.horizon * height
    sun = None
    if card.around:
        sun = ((0.5 + card.bearing_deg / 360) * width, (0.5 - card.height_deg / 180) * height)
    line = Line(id=f"{id}-horizon", a=(0.1 * width, y), b=(0.9 * width, y))
    return source.but(lines=() if card.around else (line,), sun=sun, encoding_guessed=False)


class SkyList(QListWidget):
    """Thumbnails of the library, best fit first; a double click or a drag hangs one."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.fits: list[Fit] = []
        self._icons: dict[str, QIcon] = {}
        self._made_for: object = None
        as_shelf(self, "Skies", "Skies that ship with the application. Those that fit the plate come first")

    def mimeData(self, items: list[QListWidgetItem]) -> QMimeData:
        data = QMimeData()
        names = [item.data(Qt.ItemDataRole.UserRole) for item in items]
        data.setUrls([QUrl.fromLocalFile(str(library_folder() / name)) for name in names])
        return data

    def show_library(self) -> None:
        """Lists the library, made first where it is not there."""
        if read_library(library_folder()) is None:
            folder = library_folder()
            self.desk.run("Painting the skies", lambda job: make_library(folder, job.progress), lambda _: self._rank())
        else:
            self._rank()

    def _rank(self) -> None:
        """Which fits is worked out on a thread of its own."""
        desk, cards = self.desk, read_library(library_folder()) or []
        shot = desk.shot
        key = (desk.revision, len(cards))
        if self._made_for == key:
            return

        def listed(fits: list[Fit]) -> None:
            self.fits, self._made_for = fits, key
            self._fill()

        if shot.plate is None or desk.job is not None:
            listed([Fit(card, 0.0, ("not compared with a plate yet",)) for card in cards])
            self._made_for = None
            return
        desk.run("What fits this plate", lambda job: fits_this_plate(shot, cards, desk.store), listed)

    def _fill(self) -> None:
        self.clear()
        for place, fit in enumerate(self.fits, 1):
            card = fit.card
            kind = "around" if card.around else "framed"
            item = QListWidgetItem(self._icon(card), f"{place}. {card.name}\n{kind} · {card.size[0]}×{card.size[1]}")
            sun = f"sun {card.bearing_deg:+.0f}°, {card.height_deg:.0f}° high; horizon at {card.horizon:.0%}"
            item.setToolTip(
                f"{card.name}: {sun}. Read as Scene-linear\n" + "\n".join(f"· {why}" for why in fit.reasons)
            )
            item.setSizeHint(QSize(98, 100))
            item.setData(Qt.ItemDataRole.UserRole, card.file)
            self.addItem(item)

    def _icon(self, card: SkyCard) -> QIcon:
        if card.file not in self._icons:
            try:
                source = open_source(library_folder() / card.file, "sky", as_still=True)
                pixels = self.desk.store.painting(source, source.start, (14, 14))
                size = (THUMB.width(), round(THUMB.width() * card.size[1] / card.size[0]))
                codes = show(np.ascontiguousarray(cv2.resize(pixels, size, interpolation=cv2.INTER_AREA)))
                image = QImage(codes.data, *size, QImage.Format.Format_RGB32).copy()
                self._icons[card.file] = QIcon(QPixmap.fromImage(image))
            except MantleError:
                return theme.icon("triangle-alert", theme.WARN)
        return self._icons[card.file]

    def chosen(self) -> Fit | None:
        """The sky that is chosen."""
        item = self.currentItem()
        name = item.data(Qt.ItemDataRole.UserRole) if item else None
        return next((fit for fit in self.fits if fit.card.file == name), None)
