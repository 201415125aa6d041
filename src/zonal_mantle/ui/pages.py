"""Pages of words: the manual with a search, what is new, all shortcuts on one page."""

from __future__ import annotations

from importlib import resources

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QTextCursor, QTextDocument
from PySide6.QtWidgets import QDialog, QLineEdit, QTextBrowser, QWidget

from ..words import say
from . import theme
from .guard import guarded
from .widgets import column, note, push_button, row

HANDS = {
    "On the picture": [
        ("Zoom about the pointer", "Wheel"), ("Pan", "Middle button, or Space and drag"),
        ("Close the shape that is drawn", "Return"), ("Leave what is drawn or asked for", "Escape"),
        ("Remove the chosen points or shape", "Delete"), ("Nudge the painting by a pixel", "Arrow keys in Place"),
    ],
    "On a number": [
        ("Change it", "Drag sideways, wheel, or arrow up and down"), ("A tenth of the step", "with Shift"),
        ("Type a value", "Return, or digits"), ("Reset to its default", "Backspace"),
        ("Key it, or remove its key", "The ring before its name"),
    ],
    "On the rail": [("Move the keys of a frame", "Drag a pin"), ("Copy, paste, delete keys", "Right button")],
}  # fmt: skip


def shipped_text(name: str) -> str:
    """A text that ships with the application."""
    return (resources.files("zonal_mantle") / "assets" / name).read_text(encoding="utf-8")


@guarded
class Page(QDialog):
    """A text with a line to search it. It is not modal: the picture can be judged beside it."""

    def __init__(self, parent: QWidget, title: str, markdown: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(say("{title} — Zonal Mantle", title=title))
        self.setModal(False)
        self.text = QTextBrowser()
        self.text.setOpenExternalLinks(False)
        self.text.setOpenLinks(False)
        self.text.document().setDefaultFont(theme.font(13))
        self.text.setMarkdown(markdown)
        self.text.setAccessibleName(title)
        self.search = QLineEdit()
        self.search.setPlaceholderText(say("Search…"))
        self.search.setAccessibleName(say("Search"))
        self.search.textChanged.connect(lambda _: self.find_next(anew=True))
        self.search.returnPressed.connect(self.find_next)
        self.found = note()
        self.next = push_button("Find next", "The next place with these words (Return)", self.find_next)
        layout = column(6, (8, 8, 8, 8))
        head = row(self.search, self.found, self.next)
        head.setStretch(0, 1)  # type: ignore[attr-defined]
        layout.addLayout(head)
        layout.addWidget(self.text, 1)
        self.setLayout(layout)
        self.resize(720, 620)
        self.search.setFocus()

    def find_next(self, anew: bool = False) -> None:
        """Goes to the next place with the words, and from the end on to the first."""
        words = self.search.text()
        if anew:
            self.text.moveCursor(QTextCursor.MoveOperation.Start)
        if not words:
            self.found.setText("")
            return
        there = self.text.find(words, QTextDocument.FindFlag(0))
        if not there:
            self.text.moveCursor(QTextCursor.MoveOperation.Start)
            there = self.text.find(words, QTextDocument.FindFlag(0))
        self.found.setText("" if there else say("not found"))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.search.hasFocus():
            return  # the search line has used it
        super().keyPressEvent(event)


def shortcuts_page(parent: QWidget, shortcuts: dict[str, list[tuple[str, str]]]) -> Page:
    """All keys, by menu, and what the mouse does."""
    lines = []
    for title, keys in {**shortcuts, **HANDS}.items():
        if keys:
            lines += [f"## {say(title)}", "", "| | |", "|---|---|"]
            lines += [f"| {say(words)} | `{say(key)}` |" for words, key in keys] + [""]
    return Page(parent, "Shortcuts", "\n".join(lines))
