"""The skies of the library in the stock: listed by how well they fit the plate."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QMimeData, QSize, Qt, QUrl, Signal
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QListWidget, QListWidgetItem

from ..comp.fits import Fit, fits_this_plate
from ..comp.shelf import library_folder
from ..comp.thumbnails import source_thumbnail
from ..media import open_source
from ..skies import SkyCard, make_library, read_library
from ..words import say
from . import theme
from .apart import apart
from .desk import Desk
from .guard import guarded
from .widgets import THUMB, as_shelf

UNRANKED = ("not compared with a plate yet",)


@guarded
class SkyList(QListWidget):
    """Thumbnails of the library, best fit first; a double click or a drag hangs one."""

    _painted = Signal(object)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._painted.connect(self._add_painted)
        self.desk = desk
        self.fits: list[Fit] = []
        desk.thumbs.ready.connect(self._show_icons)
        self._made_for: object = None
        as_shelf(self, "Skies", "Skies that ship with the application. Those that fit the plate come first")

    def mimeData(self, items: list[QListWidgetItem]) -> QMimeData:
        data = QMimeData()
        names = [item.data(Qt.ItemDataRole.UserRole) for item in items]
        data.setUrls([QUrl.fromLocalFile(str(library_folder() / name)) for name in names])
        return data

    def show_library(self) -> None:
        """Lists the library, made first where it is not there."""
        folder = library_folder()
        if apart(lambda: read_library(folder)) is None:
            there = apart(lambda: read_library(folder, partly=True)) or []
            self.fits = [Fit(card, 0.0, UNRANKED) for card in there]
            self._fill()
            self.desk.run(
                "Painting the skies",
                lambda job: make_library(folder, job.progress, painted_one=self._painted.emit),
                lambda _: self._rank(),
            )
        else:
            self._rank()

    def _add_painted(self, card: SkyCard) -> None:
        """Each sky is listed as soon as it is painted; they are ranked when all are there."""
        self.fits.append(Fit(card, 0.0, UNRANKED))
        self._fill()

    def _rank(self) -> None:
        """Which fits is worked out on a thread of its own."""
        desk, cards = self.desk, apart(lambda: read_library(library_folder())) or []
        shot = desk.shot
        key = (desk.revision, len(cards))
        if self._made_for == key:
            return

        def listed(fits: list[Fit]) -> None:
            self.fits, self._made_for = fits, key
            self._fill()

        if shot.plate is None or desk.job is not None:
            listed([Fit(card, 0.0, UNRANKED) for card in cards])
            self._made_for = None
            return
        desk.run("What fits this plate", lambda job: fits_this_plate(shot, cards, desk.store), listed)

    def _fill(self) -> None:
        self.clear()
        for place, fit in enumerate(self.fits, 1):
            card = fit.card
            kind = say("around") if card.around else say("framed")
            item = QListWidgetItem(self._icon(card), f"{place}. {card.name}\n{kind} · {card.size[0]}×{card.size[1]}")
            sun = say(
                "sun {bearing_deg:+.0f}°, {height_deg:.0f}° high; horizon at {horizon:.0%}",
                bearing_deg=card.bearing_deg,
                height_deg=card.height_deg,
                horizon=card.horizon,
            )
            item.setToolTip(
                say("{name}: {sun}. Read as Scene-linear\n", name=card.name, sun=sun)
                + "\n".join(f"· {why}" for why in fit.reasons)
            )
            item.setSizeHint(QSize(98, 100))
            item.setData(Qt.ItemDataRole.UserRole, card.file)
            self.addItem(item)

    def _icon(self, card: SkyCard) -> QIcon:
        desk = self.desk
        size = (THUMB.width(), round(THUMB.width() * card.size[1] / card.size[0]))

        def make() -> tuple[np.ndarray, str]:
            source = open_source(library_folder() / card.file, "sky", as_still=True)
            return source_thumbnail(source, desk.store, False, size), ""

        image, _ = desk.thumbs.get(f"sky {card.file}", (card.file,), make)
        return QIcon(QPixmap.fromImage(image)) if image is not None else theme.icon("image", theme.DIM)

    def _show_icons(self, place: object) -> None:
        if str(place).startswith("sky "):
            for row, fit in enumerate(self.fits[: self.count()]):
                if place == f"sky {fit.card.file}":
                    self.item(row).setIcon(self._icon(fit.card))

    def chosen(self) -> Fit | None:
        """The sky that is chosen."""
        item = self.currentItem()
        name = item.data(Qt.ItemDataRole.UserRole) if item else None
        return next((fit for fit in self.fits if fit.card.file == name), None)
