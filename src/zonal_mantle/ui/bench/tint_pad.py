"""Colour balance of one range as a field to drag in: across from green to magenta, upward from blue to amber. What the
zone holds there is a dot, what its aim holds a ring."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from ...media.curves import srgb_encode
from ...words import say
from .. import theme
from ..desk import new_gesture
from ..guard import guarded

REACH = 0.35  # of a factor, at the rim
CHROMA = 0.25  # coded, of a colour at the rim
HIGH_PX = 64


def factors_of(x: float, y: float) -> tuple[float, float, float]:
    """Factors of red, green and blue, of mean 1, for a place: x and y from -1 to 1, to the right and upward."""
    warm, magenta = y * REACH, x * REACH
    red, green, blue = warm + magenta / 2, -magenta, -warm + magenta / 2
    return 1 + red, 1 + green, 1 + blue


def place_of(red: float, green: float, blue: float) -> tuple[float, float]:
    """The place for factors; what all three share does not count."""
    mean = (red + green + blue) / 3
    return -(green - mean) / REACH, ((red - mean) - (blue - mean)) / 2 / REACH


@guarded
class TintPad(QWidget):
    """Drag for a tint; a double click takes it away."""

    changed = Signal(float, float, str)  # x, y, gesture
    gesture = Signal(bool)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.name = name
        self.setAccessibleName(say("Tint of the {name}", name=name))
        self.setToolTip(
            say(
                "Tint of the {name}: drag toward magenta, green, amber or blue. Dot: the zone; ring: its aim. "
                "Double click: none",
                name=name,
            )
        )
        self.setFixedHeight(HIGH_PX)
        self.at = (0.0, 0.0)
        self.zone: tuple[float, ...] | None = None
        self.aim: tuple[float, ...] | None = None
        self._gesture = ""
        self._start: tuple[QPointF, tuple[float, float]] | None = None

    def show_values(
        self, factors: tuple[float, float, float], zone: tuple[float, ...] | None, aim: tuple[float, ...] | None
    ) -> None:
        """Shows the factors, and the mean colours (scene-linear) of zone and aim."""
        self.at, self.zone, self.aim = place_of(*factors), zone, aim
        self.update()

    def _spot(self, x: float, y: float) -> QPointF:
        return QPointF((x + 1) / 2 * (self.width() - 1), (1 - y) / 2 * (self.height() - 1))

    def _colour_spot(self, colour: tuple[float, ...]) -> QPointF:
        red, green, blue = (float(v) for v in srgb_encode(np.clip(np.array(colour), 0, 1)))
        mean = (red + green + blue) / 3
        x, y = -(green - mean) / CHROMA, (red - blue) / 2 / CHROMA
        return self._spot(float(np.clip(x, -1, 1)), float(np.clip(y, -1, 1)))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.drawImage(self.rect(), _ground())
        painter.setPen(QColor(theme.LINE))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))
        middle = self._spot(0, 0)
        painter.setPen(QColor("#5a5a5a"))
        painter.drawLine(QPointF(middle.x(), 0), QPointF(middle.x(), self.height()))
        painter.drawLine(QPointF(0, middle.y()), QPointF(self.width(), middle.y()))
        if self.aim is not None:
            painter.setPen(QPen(QColor(theme.TEXT), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(self._colour_spot(self.aim), 5, 5)
        if self.zone is not None:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(theme.TEXT))
            painter.drawEllipse(self._colour_spot(self.zone), 2.5, 2.5)
        spot = self._spot(*(float(np.clip(v, -1, 1)) for v in self.at))
        painter.setPen(QPen(QColor(theme.ACCENT), 1.6))
        painter.setBrush(QColor(theme.GROUND))
        painter.drawRect(QRectF(spot.x() - 3.5, spot.y() - 3.5, 7, 7))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._gesture, self._start = new_gesture(), (event.position(), self.at)
            self.gesture.emit(True)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._start is None:
            return
        begin, (x, y) = self._start
        moved = event.position() - begin
        x = float(np.clip(x + 2 * moved.x() / max(self.width(), 1), -1, 1))
        y = float(np.clip(y - 2 * moved.y() / max(self.height(), 1), -1, 1))
        self.changed.emit(x, y, self._gesture)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._start is not None:
            self._start = None
            self.gesture.emit(False)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.changed.emit(0.0, 0.0, new_gesture())


def _ground() -> QImage:
    """The field's own colours, dark, so that they are told apart but do not shine."""
    y, x = np.mgrid[1:-1:24j, -1:1:32j]
    rgb = np.stack([0.16 + 0.06 * (y + x / 2), 0.16 - 0.06 * x, 0.16 + 0.06 * (-y + x / 2)], axis=-1)
    codes = np.ascontiguousarray(np.clip(rgb * 255, 0, 255).astype(np.uint8))
    return QImage(codes.data, 32, 24, 32 * 3, QImage.Format.Format_RGB888).copy()
