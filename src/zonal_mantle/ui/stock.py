"""The stock: the list of sources at hand."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import QMimeData, QSize, Qt, QUrl, Signal
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ..comp import Pictures
from ..comp.readings_place import source_light
from ..comp.shelf import library_folder
from ..comp.thumbnails import source_thumbnail
from ..place import painting_perspective
from ..place.perspective import height_at
from ..shot import MantleError, Source
from ..words import say
from . import theme
from .desk import Desk
from .guard import guarded
from .skies import SkyList
from .widgets import THUMB, as_shelf, choice, tool_button


@guarded
class SourceList(QListWidget):
    """Thumbnails; dragged out as files."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        as_shelf(self, "Stock", "Sources of this shot. Drag one onto the section to make a zone at that distance")

    def mimeData(self, items: list[QListWidgetItem]) -> QMimeData:
        data = QMimeData()
        paths = [self.desk.shot.source(item.data(Qt.ItemDataRole.UserRole)).path for item in items]
        data.setUrls([QUrl.fromLocalFile(path) for path in paths])
        return data


class Stock(QWidget):
    """The left column."""

    import_wanted = Signal()
    hang_wanted = Signal(str)
    relink_wanted = Signal(str)
    file_wanted = Signal(object)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.sources = SourceList(desk)
        self.skies = SkyList(desk)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(6, 4, 0, 4)
        layout.setSpacing(2)
        self.shelf = choice(["Stock", "Skies"], "Stock: the sources of this shot. Skies: the library", self._shelve)
        layout.addWidget(self.shelf)
        head = QHBoxLayout()
        head.addStretch(1)
        head.addWidget(tool_button("link", "Link the chosen source to another file", self._relink))
        head.addWidget(tool_button("mountain", "Add the chosen source as a zone", self._hang))
        head.addWidget(tool_button("plus", "Import a picture, sequence or video (Ctrl+I)", self.import_wanted.emit))
        layout.addLayout(head)
        layout.addWidget(self.sources, 1)
        layout.addWidget(self.skies, 1)
        self.skies.hide()
        self.setMinimumWidth(104)
        self.sources.itemDoubleClicked.connect(lambda _: self._hang())
        self.skies.itemDoubleClicked.connect(lambda _: self._hang())
        desk.shot_changed.connect(self.refresh)
        desk.problems_changed.connect(self._show_problems)
        desk.thumbs.ready.connect(self._show_problems)
        self._listed: tuple[Source, ...] | None = None

    def refresh(self) -> None:
        if self.desk.shot.sources == self._listed:
            return
        self._listed = self.desk.shot.sources
        self.sources.clear()
        for source in self._listed:
            item = QListWidgetItem(self._words(source))
            item.setSizeHint(QSize(98, 88))
            item.setData(Qt.ItemDataRole.UserRole, source.id)
            self.sources.addItem(item)
            self._dress(item, source)

    def _show_problems(self, place: object = None) -> None:
        """What is known of the files now."""
        for row in range(self.sources.count()):
            item = self.sources.item(row)
            source = next((s for s in self.desk.shot.sources if s.id == item.data(Qt.ItemDataRole.UserRole)), None)
            if source is not None:
                self._dress(item, source)

    @staticmethod
    def _words(source: Source) -> str:
        frames = "" if source.kind == "still" else f" · {source.start}–{source.end}"
        return f"{source.name}\n{source.width}×{source.height}{frames}"

    def _dress(self, item: QListWidgetItem, source: Source) -> None:
        """Picture and words of a source, as far as they are known; they are found out on a worker."""
        desk = self.desk
        problem = desk.problem_of(source)
        if problem:
            item.setIcon(theme.icon("triangle-alert", theme.WARN))
            item.setToolTip(problem)
            return
        plate, store, shot = source.id == desk.shot.plate, desk.store, desk.shot
        light = None if plate else source

        def make() -> tuple[np.ndarray, str]:
            codes = source_thumbnail(source, store, plate, (THUMB.width(), THUMB.height()))
            return codes, "" if light is None else _told(light, store)

        image, told = desk.thumbs.get(f"source {source.id}", (source, shot.plate or ""), make)
        item.setIcon(QIcon(QPixmap.fromImage(image)) if image is not None else theme.icon("image", theme.DIM))
        guess = say(" (a guess)") if source.encoding_guessed else ""
        item.setToolTip(
            say(
                "{name}\nRead as {encoding}{guess}; alpha: {alpha}{told}",
                name=Path(source.path).name,
                encoding=source.encoding,
                guess=guess,
                alpha=say(source.alpha),
                told=told,
            )
        )

    def _chosen(self) -> str | None:
        item = self.sources.currentItem()
        return item.data(Qt.ItemDataRole.UserRole) if item else None

    def _shelve(self, name: str) -> None:
        self.sources.setVisible(name == "Stock")
        self.skies.setVisible(name == "Skies")
        if name == "Skies":
            self.skies.show_library()

    def _hang(self) -> None:
        if self.skies.isVisible():
            if (fit := self.skies.chosen()) is not None:
                self.file_wanted.emit(library_folder() / fit.card.file)
            else:
                self.desk.said.emit(say("Choose a sky first."), True)
            return
        if (id := self._chosen()) is not None:
            self.hang_wanted.emit(id)
        else:
            self.desk.said.emit(say("Choose a source in Stock first."), True)

    def _relink(self) -> None:
        missing = [s.id for s in self.desk.shot.sources if self.desk.problem_of(s)]
        id = self._chosen() or (missing[0] if missing else None)
        if id is not None:
            self.relink_wanted.emit(id)


def _told(source: Source, store: Pictures) -> str:
    """Horizon and sun of a painting, as far as they are known."""
    horizon = painting_perspective(source).horizon
    words = (
        ""
        if horizon is None
        else say(
            "\nHorizon at {height_at:.0%} of its height", height_at=height_at(horizon, source.width / 2) / source.height
        )
    )
    try:
        light = source_light(source, store)
    except MantleError:
        light = None
    return (
        words
        if light is None
        else say(
            "{words}\nLight from the {side}, {bearing_deg:+.0f}°",
            words=words,
            side=light.side,
            bearing_deg=light.bearing_deg,
        )
    )
