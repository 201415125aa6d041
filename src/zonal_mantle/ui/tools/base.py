"""What every tool on the picture can do. The plain one does nothing."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen

from ...words import say

if TYPE_CHECKING:
    from ..desk import Desk
    from ..viewer import Viewer

GRAB_PX = 9.0


class Tool:
    """Draws handles and takes mouse and keys. Places handed in are widget pixels."""

    cursor = Qt.CursorShape.ArrowCursor
    hint = ""
    asks = False  # whether it waits for one answer on the picture, and is drawn even where overlays are hidden

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def paint(self, painter: QPainter, viewer: Viewer) -> None:
        """Draws on the picture."""

    def paint_playing(self, painter: QPainter, viewer: Viewer) -> None:
        """Draws what stays on the picture while it plays: the quad of a lock and the chosen outline."""

    def press(self, viewer: Viewer, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The left button went down."""

    def move(self, viewer: Viewer, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        """The pointer moved, with or without a button."""

    def release(self, viewer: Viewer, point: QPointF) -> None:
        """The left button went up."""

    def double(self, viewer: Viewer, point: QPointF) -> None:
        """A double click."""

    def key(self, viewer: Viewer, event: QKeyEvent) -> bool:
        """A key went down; True if it was used."""
        return False

    def magnified(self) -> tuple[float, float] | None:
        """The place on the plate that should be magnified now, or None."""
        return None


def near(a: QPointF, b: QPointF, reach: float = GRAB_PX) -> bool:
    """Whether two places are within grabbing reach."""
    return math.hypot(a.x() - b.x(), a.y() - b.y()) <= reach


def handle(painter: QPainter, at: QPointF, chosen: bool = False, colour: str = "#d8d8d8", size: float = 3.5) -> None:
    """A square handle, filled when chosen, legible on any picture."""
    painter.setPen(QPen(QColor(0, 0, 0, 200), 3))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    box = QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size)
    painter.drawRect(box)
    painter.setPen(QPen(QColor(colour), 1.4))
    painter.setBrush(QColor(colour) if chosen else QColor(40, 40, 40, 160))
    painter.drawRect(box)


def label(painter: QPainter, at: QPointF, words: str) -> None:
    """Words on a dark ground, legible on any picture. `at` is the left end of the baseline."""
    box = QRectF(painter.fontMetrics().boundingRect(words)).translated(at).adjusted(-4, -2, 4, 2)
    painter.fillRect(box, QColor(24, 24, 24, 205))
    painter.setPen(QColor("#d8d8d8"))
    painter.drawText(at, say(words))


def outline_pen(colour: str, dashed: bool = False, width: float = 1.4) -> tuple[QPen, QPen]:
    """A dark pen and a coloured one over it, so that lines can be seen on light and dark."""
    under, over = QPen(QColor(0, 0, 0, 150), width + 2), QPen(QColor(colour), width)
    if dashed:
        over.setStyle(Qt.PenStyle.DashLine)
    return under, over
