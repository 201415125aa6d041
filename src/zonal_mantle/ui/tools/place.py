"""Moving, sizing and turning a painting on the picture."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPolygonF

from ...place import carry, hanging_matrix, zone_matrix
from ...shot import Placement, Zone
from .. import theme
from ..desk import Desk, new_gesture
from .base import Tool, handle, near, outline_pen


class PlaceTool(Tool):
    """A frame round the painting: drag inside to move, a corner to size, the knob to turn, the cross for the anchor."""

    hint = (
        "Drag to move, a corner to size, the round knob to turn, the cross to set the anchor; arrow keys nudge by 1 px."
    )

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._drag: str | None = None
        self._last: tuple[float, float] = (0, 0)
        self._gesture = ""

    @property
    def zone(self) -> Zone | None:
        zone = self.desk.zone
        return None if zone is None or self.desk.shot.holds_plate(zone) else zone

    def _corners(self, zone: Zone) -> np.ndarray:
        source = self.desk.shot.source(zone.source)
        w, h = source.width, source.height
        return carry(zone_matrix(self.desk.shot, zone, self.desk.frame), np.array([[0, 0], [w, 0], [w, h], [0, h]]))

    def _anchor(self, zone: Zone) -> tuple[float, float]:
        """The anchor as it rides, on the frame that is seen: where what hangs there has come to."""
        x, y = zone.placement.anchor or (self.desk.shot.size[0] / 2, self.desk.shot.size[1] / 2)
        frame = self.desk.frame
        place = np.array([[x + zone.placement.x.at(frame), y + zone.placement.y.at(frame)]])
        at = carry(hanging_matrix(self.desk.shot, zone, frame), place)[0]
        return float(at[0]), float(at[1])

    def _knob(self, viewer: object, zone: Zone) -> QPointF:
        a, b = (viewer.to_widget(x, y) for x, y in self._corners(zone)[:2])
        middle = (a + b) / 2
        return QPointF(min(max(middle.x(), 30), viewer.width() - 30), min(max(middle.y(), 24), viewer.height() - 30))

    def paint(self, painter: QPainter, viewer: object) -> None:
        zone = self.zone
        if zone is None:
            return
        places = [viewer.to_widget(x, y) for x, y in self._corners(zone)]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in outline_pen(theme.ACCENT):
            painter.setPen(pen)
            painter.drawPolygon(QPolygonF(places))
        for place in places:
            handle(painter, place, colour=theme.ACCENT)
        knob = self._knob(viewer, zone)
        anchor = viewer.to_widget(*self._anchor(zone))
        for pen in outline_pen(theme.ACCENT):
            painter.setPen(pen)
            painter.drawEllipse(knob, 5, 5)
        for pen in outline_pen("#e6c35c"):
            painter.setPen(pen)
            painter.drawLine(anchor + QPointF(-8, 0), anchor + QPointF(8, 0))
            painter.drawLine(anchor + QPointF(0, -8), anchor + QPointF(0, 8))
            painter.drawEllipse(anchor, 4, 4)

    # --- hands ---
    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        zone = self.zone
        if zone is None:
            return
        self._gesture, self._last = new_gesture(), viewer.to_plate(point)
        corners = [viewer.to_widget(x, y) for x, y in self._corners(zone)]
        if near(point, viewer.to_widget(*self._anchor(zone))):
            self._drag = "anchor"
        elif any(near(point, place) for place in corners):
            self._drag = "size"
        elif near(point, self._knob(viewer, zone)):
            self._drag = "turn"
        elif QPolygonF(corners).containsPoint(point, Qt.FillRule.OddEvenFill):
            self._drag = "move"

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        zone = self.zone
        if self._drag is None or zone is None:
            return
        now = viewer.to_plate(point)
        if now == self._last:
            return
        frame, placement = self.desk.frame, zone.placement
        back = np.linalg.inv(hanging_matrix(self.desk.shot, zone, frame))
        (x0, y0), (x1, y1) = carry(back, np.array([self._last, now]))
        if self._drag == "move":
            new = _moved(placement, frame, x1 - x0, y1 - y0)
        elif self._drag == "anchor":
            new = with_anchor(placement, frame, (x1 - x0, y1 - y0), self.desk.shot.size)
        else:
            ax, ay = carry(back, np.array([self._anchor(zone)]))[0]
            before, after = complex(x0 - ax, y0 - ay), complex(x1 - ax, y1 - ay)
            if abs(before) < 1 or abs(after) < 1:
                return
            if self._drag == "size":
                size = placement.size.at(frame) * abs(after) / abs(before)
                new = placement.but(size=placement.size.with_value(frame, min(max(size, 0.01), 20.0)))
            else:
                turn = placement.turn_deg.at(frame) + float(np.rad2deg(np.angle(after / before)))
                new = placement.but(turn_deg=placement.turn_deg.with_value(frame, turn))
        self._last = now
        self.desk.set_dragging(True)
        words = {"move": "Move", "size": "Size", "turn": "Turn", "anchor": "Anchor of"}[self._drag]
        self.desk.edit_zone(zone.but(placement=new), f"{words} {zone.name}", self._gesture)

    def release(self, viewer: object, point: QPointF) -> None:
        self._drag = None
        self.desk.set_dragging(False)

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        ways = {
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)
        }  # fmt: skip
        zone, way = self.zone, ways.get(Qt.Key(event.key()))
        if zone is None or way is None:
            return False
        step = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        dx, dy = way
        new = _moved(zone.placement, self.desk.frame, dx * step, dy * step)
        self.desk.edit_zone(zone.but(placement=new), f"Nudge {zone.name}")
        return True


def _moved(placement: Placement, frame: int, dx: float, dy: float) -> Placement:
    return placement.but(
        x=placement.x.with_value(frame, placement.x.at(frame) + float(dx)),
        y=placement.y.with_value(frame, placement.y.at(frame) + float(dy)),
    )


def with_anchor(placement: Placement, frame: int, by: tuple[float, float], size: tuple[int, int]) -> Placement:
    """The anchor moved by (dx, dy) px while the painting stays where it is on this frame."""
    anchor = placement.anchor or (size[0] / 2, size[1] / 2)
    s, angle = placement.size.at(frame), np.deg2rad(placement.turn_deg.at(frame))
    linear = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]) @ np.diag(
        [s * placement.width.at(frame) * (-1 if placement.flip_across else 1), s * (-1 if placement.flip_up else 1)]
    )
    # the cross is drawn at anchor + (x, y); it should follow the pointer and the painting should stay
    step = np.linalg.solve(linear, np.array(by, float)) if abs(np.linalg.det(linear)) > 1e-9 else np.zeros(2)
    shift = np.array(by) - step
    moved = placement.but(anchor=(anchor[0] + float(step[0]), anchor[1] + float(step[1])))
    return _moved(moved, frame, float(shift[0]), float(shift[1]))
