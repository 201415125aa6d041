"""A luma pull's response, drawn over what was sampled: thresholds as lines, or a free curve to pull about."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from ...matte import free_curve
from ...words import say
from .. import theme
from ..desk import new_gesture
from ..guard import guarded

END = 1.05  # coded value at the right rim
LOW_PX, HIGH_PX = 34, 104
GRAB_PX = 8.0
BINS = 64

Point = tuple[float, float]


@guarded
class CurveEdit(QWidget):
    """Coded brightness across, alpha upward.

    Click for a new point, drag one, press Delete or double-click to remove it. A point cannot pass its neighbours; on a
    curve that is `rising` it cannot leave their heights either.
    """

    changed = Signal(object, str)  # points, gesture
    gesture = Signal(bool)

    def __init__(
        self,
        line: Callable[[tuple[Point, ...], np.ndarray], np.ndarray] = free_curve,
        end: float = END,
        rising: bool = False,
    ) -> None:
        super().__init__()
        self._line, self._end, self._rising = line, end, rising
        self.setAccessibleName(say("Response"))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.samples: dict[str, np.ndarray] = {}
        self.marks: tuple[float, ...] = ()
        self.ticks: tuple[tuple[float, ...], tuple[float, ...]] = ((), ())  # from below, from above
        self.points: tuple[Point, ...] = ()
        self.chosen: int | None = None
        self._held = False
        self._gesture = ""
        self.show_response((), ())

    def show_response(self, marks: tuple[float, ...], points: tuple[Point, ...]) -> None:
        """Shows thresholds, or a free curve where there are points."""
        self.marks, self.points = marks, tuple(sorted(points))
        self.setFixedHeight(HIGH_PX if points else LOW_PX)
        self.setVisible(bool(points or self.samples))
        what = say("Click for a point, drag it, Delete removes it") if points else say("lines: thresholds")
        self.setToolTip(
            say("Coded brightness of both samples: what goes (filled), what stays (outlined). {what}", what=what)
        )
        self.update()

    # --- painting ---
    def place(self, point: Point) -> QPointF:
        """Where a point of the curve is drawn."""
        return QPointF(point[0] / self._end * self.width(), (1 - point[1]) * (self.height() - 8) + 4)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(theme.GROUND))
        width, height = self.width(), self.height()
        for name, levels in self.samples.items():
            counts = np.histogram(levels, bins=BINS, range=(0, self._end))[0].astype(float)
            counts = np.sqrt(counts / max(counts.max(), 1))
            for k, share in enumerate(counts):
                bar = QRectF(k * width / BINS, height * (1 - share), width / BINS, height * share)
                if name == "goes":
                    painter.fillRect(bar, QColor(theme.LINE if self.points else theme.ACCENT))
                elif share > 0:
                    painter.setPen(QColor(theme.DIM if self.points else theme.TEXT))
                    painter.drawLine(bar.topLeft(), bar.topRight())
        if self.points:
            self._paint_curve(painter)
            return
        painter.setPen(QColor(theme.WARN))
        for mark in self.marks:
            x = mark / self._end * width
            painter.drawLine(QPointF(x, 0), QPointF(x, height))

    def _paint_curve(self, painter: QPainter) -> None:
        for places, top in zip(self.ticks, (False, True)):
            painter.setPen(QPen(QColor(theme.TEXT if top else theme.DIM), 1.4))
            for x in places:
                at = x / self._end * self.width()
                y = 0 if top else self.height() - 14
                painter.drawLine(QPointF(at, y), QPointF(at, y + 14))
        at = np.linspace(0, self._end, self.width())
        line = [self.place((float(x), float(y))) for x, y in zip(at, self._line(self.points, at))]
        painter.setPen(QPen(QColor(theme.ACCENT), 1.6))
        painter.drawPolyline(QPolygonF(line))
        for k, point in enumerate(self.points):
            painter.setPen(QPen(QColor(theme.TEXT), 1.2))
            painter.setBrush(QColor(theme.ACCENT) if k == self.chosen else QColor(theme.GROUND))
            centre = self.place(point)
            painter.drawEllipse(centre, 3.5, 3.5)
        if self.chosen is not None and self.chosen < len(self.points):
            x, y = self.points[self.chosen]
            painter.setFont(theme.font(11))
            painter.setPen(QColor(theme.TEXT))
            left, right = Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignRight
            side = right | Qt.AlignmentFlag.AlignTop if x < self._end / 2 else left | Qt.AlignmentFlag.AlignBottom
            painter.drawText(self.rect().adjusted(4, 2, -4, -2), side, f"{x:.3f} → {y:.2f}")

    # --- hands ---
    def mousePressEvent(self, event: QMouseEvent) -> None:
        if not self.points or event.button() != Qt.MouseButton.LeftButton:
            return
        apart = [(self.place(p) - event.position()).manhattanLength() for p in self.points]
        nearest = int(np.argmin(apart))
        self._gesture = new_gesture()
        if apart[nearest] <= GRAB_PX:
            self.chosen = nearest
        else:
            x, y = self._value(event.position())
            if min(abs(x - p[0]) for p in self.points) < 0.004:
                return
            self.chosen = sum(p[0] < x for p in self.points)
            new = (x, self._held_between(y, self.points[: self.chosen], self.points[self.chosen :]))
            points = (*self.points[: self.chosen], new, *self.points[self.chosen :])
            self.changed.emit(points, self._gesture)
        self._held = True
        self.gesture.emit(True)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if not self._held or self.chosen is None:
            return
        k, (x, y) = self.chosen, self._value(event.position())
        low = self.points[k - 1][0] + 0.004 if k else 0.0
        high = self.points[k + 1][0] - 0.004 if k + 1 < len(self.points) else self._end
        new = (min(max(x, low), high), self._held_between(y, self.points[:k], self.points[k + 1 :]))
        self.changed.emit((*self.points[:k], new, *self.points[k + 1 :]), self._gesture)

    def _held_between(self, y: float, before: tuple[Point, ...], after: tuple[Point, ...]) -> float:
        """The height of a point between others."""
        if not self._rising:
            return y
        return min(max(y, before[-1][1] if before else 0.0), after[0][1] if after else 1.0)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._held = False
            self.gesture.emit(False)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._remove()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.points:
            self._remove()
            return
        super().keyPressEvent(event)

    def _remove(self) -> None:
        """A curve keeps two points at least."""
        k = self.chosen
        if k is not None and k < len(self.points) and len(self.points) > 2:
            self.chosen = None
            self.changed.emit((*self.points[:k], *self.points[k + 1 :]), new_gesture())

    def _value(self, at: QPointF) -> Point:
        x = at.x() / max(self.width(), 1) * self._end
        y = 1 - (at.y() - 4) / max(self.height() - 8, 1)
        return round(min(max(x, 0.0), self._end), 4), round(min(max(y, 0.0), 1.0), 4)
