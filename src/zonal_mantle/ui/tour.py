"""A tour of six steps over the window, on whatever shot is open. It can be left at any time and changes nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QRect, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QLabel, QVBoxLayout, QWidget

from ..words import say
from . import theme
from .guard import guarded
from .widgets import push_button, row

if TYPE_CHECKING:
    from .window import Window

WIDTH_PX = 340
STEPS = (
    (
        "section",
        "The section is the shot from the side: the lens at the left, infinity at the right. Each zone stands at "
        "its distance; drag one, and order and haze follow. The curve is how much of a zone's light reaches the "
        "lens.",
    ),
    (
        "bench",
        "The bench holds the stages of the chosen zone, always in the same order: Source, Matte, Lock, Place, "
        "Match. Each header shows a reading that is measured from the pixels, and the button that mends it where "
        "it is in trouble.",
    ),
    (
        "viewer",
        "The viewer shows the frame. Handles of the open stage lie over it; O hides them. Wheel zooms, the middle "
        "button pans, the keys 1 to 9 change the view, W wipes between two, H holds the lock still.",
    ),
    (
        "rail",
        "The rail holds the frames: keys as pins, the error of the chosen lock, cached frames, findings. L plays. "
        "The button at its right opens the findings, the gravest first, each with what mends it.",
    ),
    (
        "stock",
        "The stock holds what the shot is made of, and under Skies a library, those that fit the plate first. "
        "Drag anything onto the section to make a zone at that distance.",
    ),
    (
        "strip",
        "For a plate of your own: File › New shot from a plate, then Shot › First pass. Go through the findings "
        "until every reading holds, and render. Help › Manual has the rest.",
    ),
)


@guarded
class Outline(QWidget):
    """A line about the part of which the tour speaks; the mouse goes through it."""

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)
        self.setStyleSheet("background: transparent;")

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(QPen(QColor(theme.ACCENT), 3))
        painter.drawRect(self.rect().adjusted(1, 1, -2, -2))


@guarded
class Tour(QFrame):
    """The card of the tour, over the window."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window, self.step = window, 0
        self.setAccessibleName(say("Tour"))
        self.setObjectName("tour")
        self.setStyleSheet(f"#tour {{ background: {theme.RAISED}; border: 1px solid {theme.ACCENT}; }}")
        self.outline = Outline(window)
        self.words, self.place = QLabel(), QLabel()
        for label in (self.words, self.place):
            label.setStyleSheet("background: transparent;")
        self.words.setWordWrap(True)
        self.back = push_button("Back", "The step before", lambda: self.go(self.step - 1))
        self.on = push_button("Next", "The next step", lambda: self.go(self.step + 1))
        self.leave_it = push_button("Leave the tour", "Closes the tour (Escape)", self.leave)
        layout = QVBoxLayout(self)
        layout.addWidget(self.words)
        layout.addLayout(row(self.place, 1, self.leave_it, self.back, self.on))
        self.setFixedWidth(WIDTH_PX)
        self.go(0)

    def go(self, step: int) -> None:
        """Shows a step; beyond the last one the tour ends."""
        if step >= len(STEPS):
            self.leave()
            return
        self.step = max(step, 0)
        name, words = STEPS[self.step]
        part: QWidget = getattr(self._window, name)
        self.words.setText(say(words))
        self.place.setText(say("{step} of {count}", step=self.step + 1, count=len(STEPS)))
        self.back.setEnabled(self.step > 0)
        self.on.setText(say("Done") if self.step == len(STEPS) - 1 else say("Next"))
        self.resize(WIDTH_PX, self.layout().totalHeightForWidth(WIDTH_PX))
        box = QRect(part.mapTo(self._window, part.rect().topLeft()), part.size())
        self.outline.setGeometry(box)
        middle = self._window.viewer.mapTo(self._window, self._window.viewer.rect().center())
        self.move(middle.x() - self.width() // 2, middle.y() - self.height() // 2)
        for each in (self.outline, self):
            each.show()
            each.raise_()
        self.on.setFocus()

    def leave(self) -> None:
        """Ends the tour."""
        self.outline.deleteLater()
        self.deleteLater()
        self._window.viewer.setFocus()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)
