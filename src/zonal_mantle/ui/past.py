"""Earlier versions of the shot, kept by themselves while one works: looked at in a small picture and in words, and
taken back."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QPlainTextEdit, QWidget

from ..shot import MantleError, Shot, changes
from ..shot.past import MOST, Past, past_of, shot_of_past
from ..words import say
from .desk import Desk
from .language import moment
from .states import PICTURE
from .widgets import column, note, push_button

ROLE = Qt.ItemDataRole.UserRole


class EarlierVersions(QDialog):
    """The list by time; what changed since the chosen one is told below it."""

    def __init__(self, parent: QWidget, desk: Desk) -> None:
        super().__init__(parent)
        self.desk = desk
        self.setWindowTitle(say("Earlier versions — Zonal Mantle"))
        self.about = note()
        self.list = QListWidget()
        self.list.setIconSize(PICTURE)
        self.list.setAccessibleName(say("Earlier versions"))
        self.list.currentItemChanged.connect(lambda *_: self._compare())
        self.words = QPlainTextEdit()
        self.words.setReadOnly(True)
        self.words.setAccessibleName(say("What changed since the chosen version"))
        self.back = push_button(
            "Restore this version", "The shot becomes what it was then; one step of undo", self.take_back
        )
        layout = column(6, (8, 8, 8, 8))
        layout.addWidget(self.about)
        layout.addWidget(self.list, 2)
        layout.addWidget(self.words, 1)
        layout.addWidget(self.back)
        self.setLayout(layout)
        self.resize(460, 480)

    def refresh(self) -> None:
        """Lists what is there now, newest first."""
        path = self.desk.path
        self.list.clear()
        for past in past_of(path) if path is not None else []:
            item = QListWidgetItem(QIcon(str(past.picture)), moment(past.when.timestamp()))
            item.setData(ROLE, past)
            self.list.addItem(item)
        kept = say("The last {most} versions are kept beside the shot, one every two minutes of work.", most=MOST)
        self.about.setText(
            kept if path is not None else say("Save the shot first: its versions are kept beside its file.")
        )
        self._compare()

    def _chosen(self) -> Past | None:
        item = self.list.currentItem()
        return item.data(ROLE) if item is not None else None

    def _shot(self) -> Shot | None:
        past, path = self._chosen(), self.desk.path
        return shot_of_past(past, path, self.desk.shot) if past is not None and path is not None else None

    def take_back(self) -> None:
        """The shot becomes what it was."""
        past, desk = self._chosen(), self.desk
        try:
            shot = self._shot()
        except MantleError as problem:
            desk.said.emit(str(problem), True)
            return
        if past is None or shot is None:
            desk.said.emit(say("Choose a version first."), True)
            return
        desk.edit(shot, say("Back to {when:%H:%M:%S}", when=past.when))
        desk.choice_changed.emit()
        desk.said.emit(
            say("The shot is as it was at {when:%H:%M:%S}. Undo brings back what was.", when=past.when), False
        )
        self._compare()

    def _compare(self) -> None:
        self.back.setEnabled(self._chosen() is not None)
        try:
            shot = self._shot()
        except MantleError as problem:
            self.words.setPlainText(str(problem))
            return
        found = changes(shot, self.desk.shot) if shot is not None else []
        self.words.setPlainText("\n".join(found) if found or shot is None else say("Nothing changed since then."))
