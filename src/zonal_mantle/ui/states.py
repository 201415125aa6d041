"""Named states of the shot, kept in its file: compared in words and gone back to."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QPlainTextEdit, QWidget

from ..shot import MantleError, State, changes, shot_of, state_of
from ..words import say
from .desk import Desk
from .keptpictures import as_png, icon_of_png
from .widgets import column, push_button, row

PICTURE = QSize(128, 72)
ROLE = Qt.ItemDataRole.UserRole


class States(QDialog):
    """The list of states with their pictures; what changed since the chosen one is told beside it."""

    def __init__(self, parent: QWidget, desk: Desk, picture: Callable[[], QImage | None]) -> None:
        super().__init__(parent)
        self.desk, self._picture = desk, picture
        self.setWindowTitle(say("States — Zonal Mantle"))
        self.list = QListWidget()
        self.list.setIconSize(PICTURE)
        self.list.setAccessibleName(say("States"))
        self.list.currentItemChanged.connect(lambda *_: self._compare())
        self.word = QLineEdit()
        self.word.setPlaceholderText(say("A word for the shot as it is now"))
        self.word.setAccessibleName(say("Word for a new state"))
        self.word.returnPressed.connect(self.keep)
        self.keep_it = push_button("Keep state", "Keeps the shot as it is now in its file, with a picture", self.keep)
        self.back = push_button("Go back to it", "The shot becomes what it was then; one step of undo", self.go_back)
        self.remove = push_button("Remove state", "Removes the chosen state from the file", self._remove)
        self.words = QPlainTextEdit()
        self.words.setReadOnly(True)
        self.words.setAccessibleName(say("What changed since the chosen state"))
        layout = column(6, (8, 8, 8, 8))
        head = row(self.word, self.keep_it)
        layout.addLayout(head)
        layout.addWidget(self.list, 2)
        layout.addWidget(self.words, 1)
        layout.addLayout(row(self.back, self.remove))
        self.setLayout(layout)
        self.resize(460, 480)
        desk.shot_changed.connect(self.refresh)
        self._shown: tuple[State, ...] | None = None
        self.refresh()

    def refresh(self) -> None:
        """Lists them, the newest first."""
        states = self.desk.shot.states
        if states != self._shown:
            self._shown = states
            self.list.clear()
            for state in reversed(states):
                item = QListWidgetItem(
                    icon_of_png(state.picture), f"{state.word}\n{state.saved.replace('T', ' ')[:16]}"
                )
                item.setData(ROLE, state.id)
                self.list.addItem(item)
        self._compare()

    def _chosen(self) -> State | None:
        item = self.list.currentItem()
        id = item.data(ROLE) if item is not None else None
        return next((state for state in self.desk.shot.states if state.id == id), None)

    def keep(self) -> None:
        """Keeps the shot as it is."""
        desk, word = self.desk, self.word.text().strip()
        if not word:
            desk.said.emit(say("Give the state a word first, so that it is known again."), True)
            self.word.setFocus()
            return
        image = self._picture()
        png = b"" if image is None else as_png(image, PICTURE)
        saved = datetime.now().isoformat(timespec="seconds")
        state = state_of(desk.shot, desk.shot.new_id("state"), word, saved, png)
        self.word.clear()
        desk.annotate(desk.shot.but(states=(*desk.shot.states, state)), say("Keep state {word}", word=word))

    def go_back(self) -> None:
        """The shot becomes what it was."""
        state, desk = self._chosen(), self.desk
        if state is None:
            desk.said.emit(say("Choose a state first."), True)
            return
        try:
            desk.edit(shot_of(state, desk.shot), say("Back to {word}", word=state.word))
        except MantleError as problem:
            desk.said.emit(str(problem), True)
            return
        desk.choice_changed.emit()
        desk.said.emit(say("The shot is as it was in {word}. Undo brings back what was.", word=state.word), False)

    def _remove(self) -> None:
        state, shot = self._chosen(), self.desk.shot
        if state is not None:
            rest = tuple(each for each in shot.states if each.id != state.id)
            self.desk.annotate(shot.but(states=rest), say("Remove state {word}", word=state.word))

    def _compare(self) -> None:
        state = self._chosen()
        for part in (self.back, self.remove):
            part.setEnabled(state is not None)
        if state is None:
            self.words.setPlainText("")
            return
        try:
            found = changes(shot_of(state, self.desk.shot), self.desk.shot)
        except MantleError as problem:
            self.words.setPlainText(str(problem))
            return
        self.words.setPlainText("\n".join(found) if found else say("Nothing changed since then."))
