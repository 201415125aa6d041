"""Moving, sizing and turning a painting on the picture."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPolygonF

from ...geometry import carry
from ...place import plate_places, reference_to_frame
from ...place.hands import handled, moved_by, with_group
from ...shot import Placement, Zone
from ...words import say
from .. import theme
from ..desk import Desk, new_gesture
from .base import Tool, handle, label, near, outline_pen
from .line import LineTool

DRAGS = {
    "move": "Move {name}",
    "size": "Size {name}",
    "turn": "Turn {name}",
    "anchor": "Anchor of {name}",
    "pin": "Pin {name}",
}


class PlaceTool(Tool):
    """What hangs, taken hold of: a frame with corners, a knob to turn and the anchor; pins; a dome."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.lines = LineTool(desk)
        self._drag: str | None = None
        self._last: tuple[float, float] = (0, 0)
        self._gesture = ""
        self.corner: int | None = None

    @property
    def hint(self) -> str:  # type: ignore[override]
        zone = self.zone
        if self.lines.armed or self.lines.on_painting:
            return self.lines.hint
        way = zone.placement.way if zone is not None else "flat"
        nudge = say("arrow keys nudge by 1 px, with Shift by 0.1.")
        if way == "corner pin":
            return say("Drag a corner, or inside to move all four; click a corner to nudge it: {nudge}", nudge=nudge)
        if way == "dome":
            return say("Drag to turn and tilt the dome; {nudge}", nudge=nudge)
        if way == "card":
            return say("Drag to move the card, a corner to size it, the knob to roll it; {nudge}", nudge=nudge)
        return say(
            "Drag to move, a corner to size, the round knob to turn, the cross to set the anchor; {nudge}", nudge=nudge
        )

    def cancel(self) -> None:
        """Forgets a line that was asked for."""
        self.lines.cancel()

    @property
    def zone(self) -> Zone | None:
        return self.desk.zone

    def _corners(self, zone: Zone) -> np.ndarray:
        source = self.desk.shot.source(zone.source)
        w, h = source.width, source.height
        return plate_places(self.desk.shot, zone, self.desk.frame, np.array([[0, 0], [w, 0], [w, h], [0, h]], float))

    def _anchor(self, zone: Zone) -> tuple[float, float]:
        """The anchor as it rides, on the frame that is seen: where what hangs there has come to."""
        if zone.placement.way != "flat":
            x, y = np.nan_to_num(self._corners(zone)).mean(axis=0)
            return float(x), float(y)
        x, y = zone.placement.anchor or (self.desk.shot.size[0] / 2, self.desk.shot.size[1] / 2)
        frame = self.desk.frame
        place = np.array([[x + zone.placement.x.at(frame), y + zone.placement.y.at(frame)]])
        at = carry(reference_to_frame(self.desk.shot, zone, frame), place)[0]
        return float(at[0]), float(at[1])

    def _knob(self, viewer: object, zone: Zone) -> QPointF:
        a, b = (viewer.to_widget(x, y) for x, y in self._corners(zone)[:2])
        middle = (a + b) / 2
        return QPointF(min(max(middle.x(), 30), viewer.width() - 30), min(max(middle.y(), 24), viewer.height() - 30))

    def paint(self, painter: QPainter, viewer: object) -> None:
        zone = self.zone
        if zone is not None and not self.lines.on_painting:
            if zone.placement.way == "dome":
                self._paint_dome(painter, viewer, zone)
            else:
                self._paint_frame(painter, viewer, zone)
        self.lines.paint(painter, viewer)
        if zone is not None and not self.lines.on_painting:
            self._paint_light(painter, viewer, zone)

    def _paint_frame(self, painter: QPainter, viewer: object, zone: Zone) -> None:
        corners = self._corners(zone)
        if not np.isfinite(corners).all():
            return
        places = [viewer.to_widget(x, y) for x, y in corners]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in outline_pen(theme.ACCENT):
            painter.setPen(pen)
            painter.drawPolygon(QPolygonF(places))
        for k, place in enumerate(places):
            handle(painter, place, k == self.corner and zone.placement.way == "corner pin", theme.ACCENT)
        if zone.placement.way == "corner pin":
            return
        knob = self._knob(viewer, zone)
        for pen in outline_pen(theme.ACCENT):
            painter.setPen(pen)
            painter.drawEllipse(knob, 5, 5)
        if zone.placement.way != "flat":
            return
        anchor = viewer.to_widget(*self._anchor(zone))
        for pen in outline_pen("#e6c35c"):
            painter.setPen(pen)
            painter.drawLine(anchor + QPointF(-8, 0), anchor + QPointF(8, 0))
            painter.drawLine(anchor + QPointF(0, -8), anchor + QPointF(0, 8))
            painter.drawEllipse(anchor, 4, 4)

    def _paint_dome(self, painter: QPainter, viewer: object, zone: Zone) -> None:
        """Every fifteenth degree of the painting's own bearings and heights."""
        source, dome = self.desk.shot.source(zone.source), zone.placement.dome
        unit = source.width / dome.wide_deg
        shot, frame = self.desk.shot, self.desk.frame
        for pen in outline_pen(theme.ACCENT, width=0.8):
            painter.setPen(pen)
            for across in (True, False):
                most = (dome.wide_deg if across else source.height / unit) / 2
                for degree in np.arange(-15 * (most // 15), most + 0.1, 15):
                    reach = dome.wide_deg / 2 if not across else source.height / unit / 2
                    along = np.linspace(-reach, reach, 49)
                    fixed = np.full_like(along, degree)
                    u, v = (fixed, along) if across else (along, fixed)
                    points = np.stack([source.width / 2 + u * unit, source.height / 2 + v * unit], axis=1)
                    places = plate_places(shot, zone, frame, points)
                    for (x0, y0), (x1, y1) in zip(places, places[1:]):
                        if np.isfinite([x0, y0, x1, y1]).all() and abs(x1 - x0) + abs(y1 - y0) < 2 * shot.size[0]:
                            painter.drawLine(viewer.to_widget(x0, y0), viewer.to_widget(x1, y1))

    def _paint_light(self, painter: QPainter, viewer: object, zone: Zone) -> None:
        """Two small bearings at the picture's upper corners: the plate's light and the painting's."""
        place = self.desk.readings.places.get(zone.id)
        if place is None:
            return
        for right, name, bearing in ((False, "plate", place.plate_lit), (True, "painting", place.lit)):
            centre = QPointF(viewer.width() - 34 if right else 34, 36)
            for pen in outline_pen("#d8d8d8", width=1.0):
                painter.setPen(pen)
                painter.drawEllipse(centre, 15, 15)
            words = f"{name}: ?"
            if bearing is not None:
                a = math.radians(bearing.bearing_deg)
                tip = centre + QPointF(15 * math.sin(a), -15 * math.cos(a))
                for pen in outline_pen("#f0d060", width=2.2):
                    painter.setPen(pen)
                    painter.drawLine(centre, tip)
                painter.setBrush(QColor("#f0d060"))
                painter.drawEllipse(tip, 3, 3)
                painter.setBrush(Qt.BrushStyle.NoBrush)
                words = f"{name}: {bearing.side}"
            wide = painter.fontMetrics().horizontalAdvance(words)
            label(painter, QPointF(viewer.width() - wide - 10 if right else 10, 68), words)

    # --- hands ---
    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self._drag = None
        if self.lines.grabs(viewer, point):
            self._drag = "line"
            self.lines.press(viewer, point, modifiers)
            return
        zone = self.zone
        if zone is None or self.lines.on_painting:
            return
        self._gesture, self._last = new_gesture(), viewer.to_plate(point)
        way = zone.placement.way
        if way == "dome":
            self._drag = "move"
            return
        corners = [viewer.to_widget(x, y) for x, y in np.nan_to_num(self._corners(zone))]
        hit = next((k for k, place in enumerate(corners) if near(point, place)), None)
        if way == "corner pin":
            self.corner = hit
        if way == "flat" and near(point, viewer.to_widget(*self._anchor(zone))):
            self._drag = "anchor"
        elif hit is not None:
            self._drag = "pin" if way == "corner pin" else "size"
        elif way != "corner pin" and near(point, self._knob(viewer, zone)):
            self._drag = "turn"
        elif QPolygonF(corners).containsPoint(point, Qt.FillRule.OddEvenFill):
            self._drag = "move"

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self._drag == "line" or self.lines.armed:
            self.lines.move(viewer, point, modifiers)
            return
        zone = self.zone
        if self._drag is None or zone is None:
            return
        now = viewer.to_plate(point)
        if now == self._last:
            return
        shot, frame = self.desk.shot, self.desk.frame
        if self._drag == "anchor":
            back = np.linalg.inv(reference_to_frame(shot, zone, frame))
            (x0, y0), (x1, y1) = carry(back, np.array([self._last, now]))
            new = shot.with_zone(zone.but(placement=with_anchor(zone.placement, frame, (x1 - x0, y1 - y0), shot.size)))
        else:
            done = handled(shot, zone, frame, self._drag, self._last, now, self._anchor(zone), self.corner)
            if done is None:
                return
            new = with_group(shot, zone, done, frame, self._last, now) if self._drag == "move" else shot.with_zone(done)
        self._last = now
        self.desk.set_dragging(True)
        self.desk.edit(new, say(DRAGS[self._drag], name=zone.name), self._gesture)

    def release(self, viewer: object, point: QPointF) -> None:
        if self._drag == "line":
            self._drag = None
            self.lines.release(viewer, point)
            return
        self._drag = None
        self.desk.set_dragging(False)

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        if self.lines.key(viewer, event):
            return True
        ways = {
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)
        }  # fmt: skip
        zone, way = self.zone, ways.get(Qt.Key(event.key()))
        if zone is None or way is None:
            return False
        step = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        dx, dy = way
        shot, frame = self.desk.shot, self.desk.frame
        pinned = zone.placement.way == "corner pin" and self.corner is not None
        start = tuple(self._corners(zone)[self.corner]) if pinned else self._anchor(zone)
        end = (start[0] + dx * step, start[1] + dy * step)
        drag = "pin" if pinned else "move"
        done = handled(shot, zone, frame, drag, start, end, self._anchor(zone), self.corner)
        if done is not None:
            new = with_group(shot, zone, done, frame, start, end) if drag == "move" else shot.with_zone(done)
            self.desk.edit(new, say("Nudge {name}", name=zone.name))
        return True


def with_anchor(placement: Placement, frame: int, by: tuple[float, float], size: tuple[int, int]) -> Placement:
    """The anchor moved by (dx, dy) px while the painting stays where it is on this frame."""
    anchor = placement.anchor or (size[0] / 2, size[1] / 2)
    s, angle = placement.size.factor_at(frame), np.deg2rad(placement.turn_deg.at(frame))
    across = s * placement.width.factor_at(frame)
    linear = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]) @ np.diag(
        [across * (-1 if placement.flip_across else 1), s * (-1 if placement.flip_up else 1)]
    )
    # the cross is drawn at anchor + (x, y); it should follow the pointer and the painting should stay
    step = np.linalg.solve(linear, np.array(by, float)) if abs(np.linalg.det(linear)) > 1e-9 else np.zeros(2)
    shift = np.array(by) - step
    moved = placement.but(anchor=(anchor[0] + float(step[0]), anchor[1] + float(step[1])))
    return moved_by(moved, frame, float(shift[0]), float(shift[1]))
