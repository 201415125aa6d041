"""The areas of the open zone's aim, on the picture."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPolygonF

from ...comp.aim import corners_of
from ...words import say
from .. import theme
from ..desk import Desk
from .base import Tool, label, outline_pen
from .line import LineTool


class AimTool(Tool):
    """Shows the areas where they lie on the frame, with their distances; hands on to a line while one is asked for."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.lines = LineTool(desk)

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What the next gesture does."""
        return self.lines.hint if self.lines.armed else "Dashed: the areas that the zone is compared with."

    def cancel(self) -> None:
        """Forgets what was asked for."""
        self.lines.cancel()

    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self.lines.armed:
            self.lines.press(viewer, point, modifiers)

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self.lines.armed:
            self.lines.move(viewer, point, modifiers)

    def release(self, viewer: object, point: QPointF) -> None:
        if self.lines.armed:
            self.lines.release(viewer, point)

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        return self.lines.armed and self.lines.key(viewer, event)

    def paint(self, painter: QPainter, viewer: object) -> None:
        if self.lines.armed:
            self.lines.paint(painter, viewer)
        zone, shot, frame = self.desk.zone, self.desk.shot, self.desk.frame
        if zone is None:
            return
        aim = zone.match.aim
        for number, area in enumerate(aim.areas, 1):
            corners = corners_of(shot, area.box, area.frame, aim.rides, frame)
            places = QPolygonF([viewer.to_widget(float(x), float(y)) for x, y in corners])
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for pen in outline_pen(theme.ACCENT, dashed=True):
                painter.setPen(pen)
                painter.drawPolygon(places)
            far = "" if area.distance_m is None else f", {area.distance_m:g} m"
            label(painter, places[0] + QPointF(4, 14), say("Aim {number}{far}", number=number, far=far))
