"""Drawing and editing keep and drop shapes on the picture."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPolygonF

from ...matte import outline
from ...shot import Shape, ShapeKey, Zone
from ..desk import Desk, new_gesture
from .base import Tool, handle, near, outline_pen

KEEP, DROP = "#9fd8c4", "#e8a06a"


class ShapeTool(Tool):
    """Draws a new shape point by point, or edits those that are there on the frame that is seen."""

    hint = (
        "Drag points or the whole shape; double-click its edge for a new point; Delete removes a point. "
        "A shape that already has keys gets one on the frame you are on."
    )

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.drawing: tuple[str, str] | None = None  # mode and form of the shape being drawn
        self.points: list[tuple[float, float]] = []
        self.chosen: str | None = None
        self.point: int | None = None
        self._drag: tuple[str, tuple[float, float], tuple[tuple[float, float], ...]] | None = None
        self._gesture = ""
        self._hover: QPointF | None = None

    @property
    def zone(self) -> Zone | None:
        return self.desk.zone

    def start(self, mode: str, form: str) -> None:
        """Begins a new shape; the next clicks set its points."""
        self.drawing, self.points = (mode, form), []

    def cancel(self) -> None:
        """Drops the shape being drawn."""
        self.drawing, self.points = None, []

    # --- painting ---
    def paint(self, painter: QPainter, viewer: object) -> None:
        zone = self.zone
        if zone is not None:
            for shape in zone.matte.shapes:
                self._paint_shape(painter, viewer, shape)
        if self.drawing and self.points:
            colour = KEEP if self.drawing[0] == "keep" else DROP
            places = [viewer.to_widget(*p) for p in self.points]
            line = QPolygonF([*places, self._hover] if self._hover else places)
            for pen in outline_pen(colour):
                painter.setPen(pen)
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolyline(line)
            for k, place in enumerate(places):
                handle(painter, place, k == 0, colour)

    def _paint_shape(self, painter: QPainter, viewer: object, shape: Shape) -> None:
        colour = KEEP if shape.mode == "keep" else DROP
        chosen = shape.id == self.chosen
        line = QPolygonF([viewer.to_widget(x, y) for x, y in outline(shape, self.desk.frame)])
        fill = QColor(colour)
        fill.setAlpha(26 if chosen else 0)
        painter.setBrush(fill)
        for pen in outline_pen(colour, dashed=not shape.on or shape.mode == "drop", width=1.6 if chosen else 1.0):
            painter.setPen(pen)
            painter.drawPolygon(line)
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if chosen:
            for k, (x, y) in enumerate(shape.points_at(self.desk.frame)):
                handle(painter, viewer.to_widget(x, y), k == self.point, colour)

    # --- hands ---
    def _shape(self, id: str | None) -> Shape | None:
        zone = self.zone
        return next((s for s in zone.matte.shapes if s.id == id), None) if zone else None

    def _put(self, shape: Shape, label: str, gesture: str | None = None) -> None:
        zone = self.zone
        if zone is None:
            return
        shapes = tuple(shape if s.id == shape.id else s for s in zone.matte.shapes)
        self.desk.edit_zone(zone.but(matte=zone.matte.but(shapes=shapes)), label, gesture)

    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        place = viewer.to_plate(point)
        if self.drawing:
            if len(self.points) >= 3 and near(point, viewer.to_widget(*self.points[0])):
                self.finish()
            else:
                self.points.append(place)
            return
        zone = self.zone
        if zone is None:
            return
        shape = self._shape(self.chosen)
        if shape is not None:
            for k, (x, y) in enumerate(shape.points_at(self.desk.frame)):
                if near(point, viewer.to_widget(x, y)):
                    self.point = k
                    self._begin("point", place, shape)
                    return
        for other in reversed(zone.matte.shapes):
            line = QPolygonF([viewer.to_widget(x, y) for x, y in outline(other, self.desk.frame)])
            if line.containsPoint(point, Qt.FillRule.OddEvenFill):
                self.chosen, self.point = other.id, None
                self._begin("whole", place, other)
                self.desk.choice_changed.emit()
                return
        self.chosen = self.point = None
        self.desk.choice_changed.emit()

    def _begin(self, what: str, place: tuple[float, float], shape: Shape) -> None:
        self._drag = (what, place, shape.points_at(self.desk.frame))
        self._gesture = new_gesture()

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self._hover = point if self.drawing else None
        shape = self._shape(self.chosen)
        if self._drag is None or shape is None:
            return
        what, start, points = self._drag
        x, y = viewer.to_plate(point)
        dx, dy = x - start[0], y - start[1]
        if dx == 0 and dy == 0:
            return
        moved = tuple(
            (px + dx, py + dy) if what == "whole" or k == self.point else (px, py) for k, (px, py) in enumerate(points)
        )
        self.desk.set_dragging(True)
        self._put(self._with_points(shape, moved), f"Move {shape.name}", self._gesture)

    def _with_points(self, shape: Shape, points: tuple[tuple[float, float], ...]) -> Shape:
        if len(shape.keys) == 1:
            return shape.but(keys=(ShapeKey(frame=shape.keys[0].frame, points=points),))
        return shape.with_points(self.desk.frame, points)

    def release(self, viewer: object, point: QPointF) -> None:
        self._drag = None
        self.desk.set_dragging(False)

    def double(self, viewer: object, point: QPointF) -> None:
        if self.drawing:
            self.finish()
            return
        shape = self._shape(self.chosen)
        if shape is None:
            return
        points = [viewer.to_widget(x, y) for x, y in shape.points_at(self.desk.frame)]
        for k, a in enumerate(points):
            b = points[(k + 1) % len(points)]
            along = b - a
            length = QPointF.dotProduct(along, along)
            share = QPointF.dotProduct(point - a, along) / length if length else 0.0
            if 0.05 < share < 0.95 and near(point, a + along * share, 10):
                self._put(shape.with_point_inserted(k, share), f"New point in {shape.name}")
                self.point = k + 1
                return

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        if self.drawing:
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.finish()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.cancel()
                return True
            if event.key() == Qt.Key.Key_Backspace and self.points:
                self.points.pop()
                return True
            return False
        shape = self._shape(self.chosen)
        if shape is None or self.zone is None:
            return False
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            if self.point is not None and len(shape.keys[0].points) > 3:
                self._put(shape.with_point_removed(self.point), f"Remove a point of {shape.name}")
                self.point = None
            else:
                self.remove()
            return True
        return False

    def remove(self) -> None:
        """Removes the chosen shape."""
        zone, shape = self.zone, self._shape(self.chosen)
        if zone is None or shape is None:
            return
        rest = tuple(s for s in zone.matte.shapes if s.id != shape.id)
        self.chosen = None
        self.desk.edit_zone(zone.but(matte=zone.matte.but(shapes=rest)), f"Remove {shape.name}")

    def finish(self) -> None:
        """Closes the shape being drawn."""
        zone, drawing, points = self.zone, self.drawing, self.points
        self.cancel()
        if zone is None or drawing is None:
            return
        if len(points) < 3:
            self.desk.said.emit(f"A shape needs at least three points; this one has {len(points)}.", True)
            return
        mode, form = drawing
        count = sum(s.mode == mode for s in zone.matte.shapes) + 1
        shape = Shape(
            id=self.desk.shot.new_id("shape"),
            name=f"{mode.capitalize()} {count}",
            mode=mode,
            form=form,
            keys=(ShapeKey(frame=self.desk.frame, points=tuple(points)),),
        )
        self.chosen = shape.id
        matte = zone.matte.but(on=True, shapes=(*zone.matte.shapes, shape))
        self.desk.edit_zone(zone.but(matte=matte), f"Draw {shape.name}")

    def magnified(self) -> tuple[float, float] | None:
        shape = self._shape(self.chosen)
        if self._drag is None or self._drag[0] != "point" or shape is None or self.point is None:
            return None
        return shape.points_at(self.desk.frame)[self.point]
