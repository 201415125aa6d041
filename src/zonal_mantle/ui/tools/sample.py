"""Sampling an area of the picture by dragging a box, or a point by a click."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter

from ...words import say
from ..desk import Desk
from .base import Tool, outline_pen

REACH = 3.0
Area = tuple[float, float, float, float]


class SampleTool(Tool):
    """The next box (or click) on the picture is handed on as x0, y0, x1, y1 in its pixels; Escape hands on None."""

    cursor = Qt.CursorShape.CrossCursor
    asks = True

    def __init__(self, desk: Desk, hint: str, taken: Callable[[Area | None], None]) -> None:
        super().__init__(desk)
        self.hint = hint
        self._taken = taken
        self._start: tuple[float, float] | None = None
        self._end: tuple[float, float] | None = None

    def paint(self, painter: QPainter, viewer: object) -> None:
        if self._start is None or self._end is None:
            return
        box = QRectF(viewer.to_widget(*self._start), viewer.to_widget(*self._end)).normalized()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in outline_pen("#d8d8d8"):
            painter.setPen(pen)
            painter.drawRect(box)

    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self._start = self._end = viewer.to_plate(point)

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self._start is not None:
            self._end = viewer.to_plate(point)

    def release(self, viewer: object, point: QPointF) -> None:
        if self._start is None:
            return
        (x0, y0), (x1, y1) = self._start, viewer.to_plate(point)
        self._start = self._end = None
        if abs(x1 - x0) < 2 and abs(y1 - y0) < 2:
            x0, y0, x1, y1 = x0 - REACH, y0 - REACH, x0 + REACH, y0 + REACH
        width, height = viewer.picture_size
        left, right = sorted(min(max(x, 0.0), float(width)) for x in (x0, x1))
        top, bottom = sorted(min(max(y, 0.0), float(height)) for y in (y0, y1))
        if right - left < 1 or bottom - top < 1:
            self.desk.said.emit(say("That is outside the picture. Drag over it."), True)
            return
        self._taken((left, top, right, bottom))

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        if event.key() == Qt.Key.Key_Escape:
            self._taken(None)
            return True
        return False


def with_pixels(desk: Desk, area: Area, then: Callable[[np.ndarray], None]) -> None:
    """Hands on the pixels within an area of what the matte on the bench looks at, (n, 3) float32, scene-linear: at once
    where they are in memory, else when a worker has read them."""
    picture, store = desk.looked_at(), desk.store
    assert picture is not None
    x0, y0, x1, y1 = (int(v) for v in area)

    def cut(pixels: np.ndarray) -> np.ndarray:
        return pixels[y0 : max(y1, y0 + 1), x0 : max(x1, x0 + 1)].reshape(-1, 3)

    there = store.pixels_if_there(picture)
    if there is not None:
        then(cut(there))
    else:
        desk.later("sample", lambda: cut(store.pixels(picture)), then)


def with_mean(desk: Desk, area: Area, then: Callable[[tuple[float, float, float]], None]) -> None:
    """Hands on the mean of an area, scene-linear."""

    def averaged(pixels: np.ndarray) -> None:
        r, g, b = (float(v) for v in pixels.mean(axis=0))
        then((r, g, b))

    with_pixels(desk, area, averaged)
