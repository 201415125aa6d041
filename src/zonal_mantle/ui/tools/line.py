"""Drawing lines on the picture: horizons, edges, walls, shadows, waterlines; pointing out a sun."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent, QPainter

from ...geometry import carry
from ...place import painting_perspective, plate_perspective
from ...place.perspective import height_at
from ...place.ride import lock_motion
from ...shot import Line
from ...words import say
from ..desk import Desk, new_gesture
from .base import Tool, handle, label, near, outline_pen

COLOURS = {"horizon": "#7fd1e8", "first": "#e6c35c", "second": "#d48fd0"}
Drawn = Callable[[tuple[float, float], tuple[float, float]], None]


class LineTool(Tool):
    """Shows the lines of plate or painting, drags their ends, and draws the next one when it is asked to."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.asked = ""
        self._then: Drawn | None = None
        self._point = False
        self._start: tuple[float, float] | None = None
        self._end: tuple[float, float] | None = None
        self._drag: tuple[str, str] | None = None
        self._gesture = ""
        self.chosen: str | None = None

    @property
    def armed(self) -> bool:
        """Whether the next drag draws."""
        return self._then is not None

    @property
    def hint(self) -> str:  # type: ignore[override]
        return self.asked or "Drag an end of a line to move it; Delete removes the chosen one."

    def ask(self, words: str, then: Drawn, point: bool = False) -> None:
        """The next line (or place) on the picture is handed on; Escape forgets it."""
        self.asked, self._then, self._point = words, then, point
        self._start = self._end = None

    def cancel(self) -> None:
        """Forgets what was asked for."""
        self.asked, self._then, self._start = "", None, None

    # --- the lines ---
    @property
    def on_painting(self) -> bool:
        """Whether the picture is the zone's painting by itself."""
        zone = self.desk.zone
        return self.desk.view == "Painting" and zone is not None and not self.desk.shot.holds_plate(zone)

    @property
    def lines(self) -> tuple[Line, ...]:
        """Those of the picture that is seen."""
        if self.on_painting and self.desk.zone is not None:
            return self.desk.shot.source(self.desk.zone.source).lines
        return self.desk.shot.lines

    def put(self, lines: tuple[Line, ...], words: str, gesture: str | None = None) -> None:
        """Other lines for the picture that is seen."""
        shot, zone = self.desk.shot, self.desk.zone
        if self.on_painting and zone is not None:
            self.desk.edit(shot.with_source(shot.source(zone.source).but(lines=lines)), words, gesture)
            return
        rides = shot.lines_ride
        if rides is None and lines:  # they ride on what the zone hangs on, where that is known
            rides = zone.placement.rides if zone is not None else None
            rides = rides or (self.desk.lock.id if self.desk.lock is not None and self.desk.lock.solved else None)
        self.desk.edit(shot.but(lines=lines, lines_ride=rides), words, gesture)

    def add(self, kind: str, a: tuple[float, float], b: tuple[float, float]) -> None:
        """A new line on the picture that is seen; there is one horizon."""
        kept = tuple(line for line in self.lines if kind != "horizon" or line.kind != "horizon")
        line = Line(id=self.desk.shot.new_id("line"), kind=kind, a=a, b=b, frame=self.desk.frame)
        self.put((*kept, line), say("Draw a line: {kind}", kind=say(kind)))
        self.chosen = line.id

    def _motion(self, line: Line) -> np.ndarray:
        """From the frame that it was drawn on to the one that is seen."""
        shot = self.desk.shot
        if self.on_painting or shot.lines_ride is None:
            return np.eye(3)
        lock = shot.lock(shot.lines_ride)
        there = np.linalg.inv(lock_motion(lock, line.frame, shot.size))
        return np.asarray(lock_motion(lock, self.desk.frame, shot.size) @ there)

    def _ends(self, line: Line) -> np.ndarray:
        return carry(self._motion(line), np.array([line.a, line.b]))

    # --- painting ---
    def paint(self, painter: QPainter, viewer: object) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for line in self.lines:
            a, b = (viewer.to_widget(x, y) for x, y in self._ends(line))
            for pen in outline_pen(COLOURS[line.kind], width=1.6):
                painter.setPen(pen)
                painter.drawLine(a, b)
            for end in (a, b):
                handle(painter, end, line.id == self.chosen, COLOURS[line.kind])
        self._paint_horizon(painter, viewer)
        if self._start is not None and self._end is not None:
            for pen in outline_pen("#f0f0f0"):
                painter.setPen(pen)
                painter.drawLine(viewer.to_widget(*self._start), viewer.to_widget(*self._end))

    def _paint_horizon(self, painter: QPainter, viewer: object) -> None:
        """The horizon all across, dashed, however it is known."""
        zone, shot = self.desk.zone, self.desk.shot
        if self.on_painting and zone is not None:
            line = painting_perspective(shot.source(zone.source)).horizon
        else:
            line = plate_perspective(shot, self.desk.frame).horizon
        width = viewer.picture_size[0]
        if line is None or not np.isfinite([height_at(line, 0), height_at(line, width)]).all():
            return
        a, b = (viewer.to_widget(x, height_at(line, x)) for x in (0.0, float(width)))
        for pen in outline_pen(COLOURS["horizon"], dashed=True, width=1.0):
            painter.setPen(pen)
            painter.drawLine(a, b)
        label(painter, QPointF(max(a.x(), 4) + 6, a.y() - 6), "horizon")

    # --- hands ---
    def grabs(self, viewer: object, point: QPointF) -> bool:
        """Whether a press here is for a line: one is asked for, or an end lies here."""
        return self.armed or self._hit(viewer, point) is not None

    def _hit(self, viewer: object, point: QPointF) -> tuple[str, str] | None:
        for line in reversed(self.lines):
            for name, (x, y) in zip("ab", self._ends(line)):
                if near(point, viewer.to_widget(x, y)):
                    return line.id, name
        return None

    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self.armed:
            self._start = self._end = viewer.to_plate(point)
            return
        self._drag, self._gesture = self._hit(viewer, point), new_gesture()
        self.chosen = self._drag[0] if self._drag else None

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        now = viewer.to_plate(point)
        if self._start is not None:
            self._end = now
        elif self._drag is not None:
            id, name = self._drag
            line = next((each for each in self.lines if each.id == id), None)
            if line is not None:
                x, y = carry(np.linalg.inv(self._motion(line)), np.array([now]))[0]
                new = line.but(**{name: (float(x), float(y))})
                self.desk.set_dragging(True)
                lines = tuple(new if each.id == id else each for each in self.lines)
                self.put(lines, say("Move a line: {kind}", kind=say(line.kind)), self._gesture)

    def release(self, viewer: object, point: QPointF) -> None:
        if self._drag is not None:
            self._drag = None
            self.desk.set_dragging(False)
        start, then = self._start, self._then
        if start is None or then is None:
            return
        end = viewer.to_plate(point)
        self._start = None
        if not self._point and np.hypot(end[0] - start[0], end[1] - start[1]) < 4:
            self.desk.said.emit(say("Drag from one end of the line to the other."), True)
            return
        point_only = self._point
        self.cancel()
        then(end if point_only else start, end)
        self.desk.choice_changed.emit()

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        if event.key() == Qt.Key.Key_Escape and self.armed:
            self.cancel()
            self.desk.choice_changed.emit()
            return True
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.chosen is not None:
            left = tuple(line for line in self.lines if line.id != self.chosen)
            if len(left) < len(self.lines):
                self.put(left, "Remove a line")
                self.chosen = None
                return True
        return False
