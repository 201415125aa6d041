"""Picking a colour off the plate."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent

from ...words import say
from ..desk import Desk
from .base import Tool

REACH = 4


class PickTool(Tool):
    """The next click gives the plate's mean colour round it, scene-linear, and hands back to the stage's tool."""

    asks = True
    cursor = Qt.CursorShape.CrossCursor
    hint = "Click on the plate where the air is thickest, such as the foot of the farthest hill."

    def __init__(self, desk: Desk, picked: Callable[[tuple[float, float, float] | None], None]) -> None:
        super().__init__(desk)
        self._picked = picked

    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        x, y = (int(v) for v in viewer.to_plate(point))
        source = self.desk.shot.plate_source
        assert source is not None
        if not (0 <= x < source.width and 0 <= y < source.height):
            self.desk.said.emit(say("That is outside the picture. Click on the plate."), True)
            return
        store, frame = self.desk.store, self.desk.frame

        def look() -> tuple[float, float, float]:
            plate = store.plate(source, frame)
            area = plate[max(0, y - REACH) : y + REACH + 1, max(0, x - REACH) : x + REACH + 1]
            r, g, b = (float(v) for v in area.reshape(-1, 3).mean(axis=0))
            return r, g, b

        self.desk.later("pick", look, self._picked)

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        if event.key() == Qt.Key.Key_Escape:
            self._picked(None)
            return True
        return False
