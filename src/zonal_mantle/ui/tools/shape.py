"""Drawing and editing keep and drop shapes on the picture."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen, QPolygonF

from ...geometry import carry
from ...matte import outline
from ...place import reference_to_frame
from ...shot import Follow, Shape, ShapeKey, ellipse_key, rectangle_key
from ...shot.outlines import dragged
from ...shot.shapes import Point
from ...words import say
from ..desk import Desk, new_gesture
from .base import Tool, handle, near, outline_pen

KEEP, DROP = "#9fd8c4", "#e8a06a"
FORMS_DRAWN = ("polygon", "smooth", "ellipse", "rectangle")


class ShapeTool(Tool):
    """Draws a new shape, or edits those that are there on the frame that is seen.

    Places on the picture are plate pixels; a shape that rides on a lock holds its keys in those of the lock's reference
    frame, and is carried there and back here.
    """

    hint = (
        "Drag points, handles or the shape (Ctrl scales, Alt turns); Shift chooses several. "
        "Double-click: new point, or corner and smooth. Delete removes."
    )

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.drawing: tuple[str, str] | None = None  # mode and form of the shape being drawn
        self.points: list[Point] = []
        self.chosen: str | None = None
        self.points_chosen: frozenset[int] = frozenset()
        self._drag: tuple[str, Point, ShapeKey, int] | None = None
        self._gesture = ""
        self._hover: QPointF | None = None

    @property
    def point(self) -> int | None:
        """The chosen point, where there is just one."""
        return next(iter(self.points_chosen)) if len(self.points_chosen) == 1 else None

    @property
    def shapes(self) -> tuple[Shape, ...]:
        """The shapes of the matte on the bench."""
        matte = self.desk.matte
        return matte.shapes if matte is not None else ()

    def choose(self, id: str | None) -> None:
        """Chooses a shape by its id."""
        self.chosen, self.points_chosen = id, frozenset()

    @property
    def on_own(self) -> bool:
        """Whether the shapes lie on the chosen zone's own picture."""
        return self.desk.cuts_own

    @property
    def here(self) -> bool:
        """Whether the view shows the pixels that the shapes lie in: the plate's, or those of the zone's own picture."""
        return self.on_own == (self.desk.own_zone is not None)

    def start(self, mode: str, form: str) -> None:
        """Begins a new shape; the next clicks set its points, or the next drag its box."""
        if not self.here:
            self.desk.set_view(view="Painting" if self.on_own else "Plate")
        self.drawing, self.points = (mode, form), []

    def cancel(self) -> None:
        """Drops the shape being drawn."""
        self.drawing, self.points = None, []

    def words(self) -> str:
        """What to do next while a shape is drawn."""
        if not self.drawing:
            return ""
        mode, form = self.drawing
        if form in ("ellipse", "rectangle"):
            return say("Drag the box of the {mode} shape; Escape leaves it.", mode=say(mode))
        return say("Click the points of a {mode} shape; Enter or the first point closes it.", mode=say(mode))

    # --- riding ---
    def _motion(self, shape: Shape) -> np.ndarray:
        """From the shape's own pixels to those of the frame that is seen."""
        if self.on_own:
            return np.eye(3)
        return reference_to_frame(self.desk.shot, shape, self.desk.frame)

    def _seen(self, shape: Shape, points: tuple[Point, ...]) -> list[Point]:
        return [(float(x), float(y)) for x, y in carry(self._motion(shape), np.array(points))]

    def _own(self, shape: Shape, place: Point) -> Point:
        x, y = carry(np.linalg.inv(self._motion(shape)), np.array([place]))[0]
        return float(x), float(y)

    def standing(self) -> list[Shape]:
        """The shapes as they stand on this frame, riding on nothing."""
        return [self._freed(shape, None) for shape in self.shapes if shape.on]

    def chosen_standing(self) -> Shape | None:
        """The chosen shape as it stands on this frame, riding on nothing."""
        shape = self._shape(self.chosen)
        return self._freed(shape, None) if shape is not None else None

    def key_outline(self, outline: ShapeKey) -> None:
        """An outline in the picture's pixels becomes the chosen shape's key on this frame."""
        shape = self._shape(self.chosen)
        if shape is not None:
            frame = self.desk.frame
            standing = shape.but(rides=None, keys=(outline.but(frame=frame),))
            own = self._freed(standing, shape.rides).keys[0]
            self._put(shape.with_key(frame, own.points, own.handles), say("Paste a key of {name}", name=shape.name))

    def _freed(self, shape: Shape, lock: str | None) -> Shape:
        """A shape that looks the same on this frame but rides on another lock, with one key."""
        shot, frame, key = self.desk.shot, self.desk.frame, shape.key_at(self.desk.frame)
        seen = carry(self._motion(shape), np.array(key.points)).mean(axis=0, keepdims=True)
        x, y = carry(np.linalg.inv(reference_to_frame(shot, lock, frame)), seen)[0]
        freed = shape.but(rides=lock, about=(float(x), float(y)) if lock else None)
        way = np.linalg.inv(reference_to_frame(shot, freed, frame)) @ self._motion(shape)
        return freed.but(keys=(_carried(way, key, frame),))

    def ride(self, lock: str | None) -> None:
        """The chosen shape rides on a lock from now on, looking the same on this frame."""
        shape = self._shape(self.chosen)
        if shape is not None:
            self._put(
                self._freed(shape, lock),
                say("{name} rides", name=shape.name) if lock else say("{name} stands free", name=shape.name),
            )

    def follow(self, follow: Follow) -> None:
        """The chosen shape takes other parts of its lock's motion, looking the same on the frames of its keys."""
        shape, shot = self._shape(self.chosen), self.desk.shot
        if shape is not None:
            new = shape.but(follow=follow)
            keys = []
            for key in shape.keys:
                way = np.linalg.inv(reference_to_frame(shot, new, key.frame)) @ reference_to_frame(
                    shot, shape, key.frame
                )
                keys.append(_carried(way, key, key.frame))
            self._put(new.but(keys=tuple(keys)), say("What {name} takes", name=shape.name))

    # --- painting ---
    def paint(self, painter: QPainter, viewer: object) -> None:
        for shape in self.shapes if self.here else ():
            self._paint_shape(painter, viewer, shape)
        if self.drawing and self.points:
            colour = KEEP if self.drawing[0] == "keep" else DROP
            places = [viewer.to_widget(*p) for p in self.points]
            line = QPolygonF([*places, self._hover] if self._hover else places)
            if self.drawing[1] in ("ellipse", "rectangle") and self._hover:
                key = self._boxed(self.points[0], viewer.to_plate(self._hover))
                shape = _new_shape(self.drawing, "", "", key)
                line = QPolygonF([viewer.to_widget(x, y) for x, y in outline(shape, self.desk.frame)])
            for pen in outline_pen(colour):
                painter.setPen(pen)
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolyline(line)
            for k, place in enumerate(places):
                handle(painter, place, k == 0, colour)

    def paint_playing(self, painter: QPainter, viewer: object) -> None:
        shape = self._shape(self.chosen)
        if shape is not None and self.here:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for pen in outline_pen(KEEP if shape.mode == "keep" else DROP):
                painter.setPen(pen)
                painter.drawPolygon(self._line(viewer, shape))

    def _line(self, viewer: object, shape: Shape) -> QPolygonF:
        points = self._seen(shape, tuple(map(tuple, outline(shape, self.desk.frame).tolist())))
        return QPolygonF([viewer.to_widget(x, y) for x, y in points])

    def _paint_shape(self, painter: QPainter, viewer: object, shape: Shape) -> None:
        colour = KEEP if shape.mode == "keep" else DROP
        chosen = shape.id == self.chosen
        fill = QColor(colour)
        fill.setAlpha(26 if chosen else 0)
        painter.setBrush(fill)
        line = self._line(viewer, shape)
        for pen in outline_pen(colour, dashed=not shape.on or shape.mode == "drop", width=1.6 if chosen else 1.0):
            painter.setPen(pen)
            painter.drawPolygon(line)
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if not chosen:
            return
        key = shape.key_at(self.desk.frame)
        places = [viewer.to_widget(x, y) for x, y in self._seen(shape, key.points)]
        for k in self.points_chosen:
            for end in self._handle_ends(viewer, shape, key, k):
                painter.setPen(QPen(QColor(colour), 1))
                painter.drawLine(places[k], end)
                painter.setBrush(QColor(colour))
                painter.drawEllipse(end, 3.0, 3.0)
        for k, place in enumerate(places):
            handle(painter, place, k in self.points_chosen, colour)

    def _handle_ends(self, viewer: object, shape: Shape, key: ShapeKey, k: int) -> list[QPointF]:
        """Where the two handles of a point end, on the screen; none at a corner."""
        if shape.form != "curve" or k >= len(key.handles) or not any(key.handles[k]):
            return []
        (x, y), h = key.points[k], key.handles[k]
        ends = self._seen(shape, ((x + h[0], y + h[1]), (x + h[2], y + h[3])))
        return [viewer.to_widget(*end) for end in ends]

    # --- hands ---
    def _shape(self, id: str | None) -> Shape | None:
        return next((s for s in self.shapes if s.id == id), None)

    def put_all(self, shapes: tuple[Shape, ...], label: str, gesture: str | None = None) -> None:
        """The shapes as they are to be, in the shot."""
        matte = self.desk.own_matte().but(shapes=shapes)
        if self.desk.matte is None:
            self.desk.give_matte(matte, label, gesture)
        else:
            self.desk.edit_matte(matte, label, gesture)

    def new_name(self, mode: str) -> str:
        """A name for the next shape of a mode."""
        return f"{say(mode).capitalize()} {sum(shape.mode == mode for shape in self.shapes) + 1}"

    def _put(self, shape: Shape, label: str, gesture: str | None = None) -> None:
        self.put_all(tuple(shape if s.id == shape.id else s for s in self.shapes), label, gesture)

    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        place = viewer.to_plate(point)
        if not self.here:
            where = say("its own picture") if self.on_own else say("the plate")
            self.desk.said.emit(
                say("This matte's shapes lie in {where}. Look at that, or at the matte.", where=where), True
            )
            return
        if self.drawing:
            if self.drawing[1] in ("ellipse", "rectangle"):
                self.points = [place]
            elif len(self.points) >= 3 and near(point, viewer.to_widget(*self.points[0])):
                self.finish()
            else:
                self.points.append(place)
            return
        shape = self._shape(self.chosen)
        if shape is not None and self._press_on(viewer, point, place, shape, modifiers):
            return
        for other in reversed(self.shapes):
            if self._line(viewer, other).containsPoint(point, Qt.FillRule.OddEvenFill):
                if other.id != self.chosen:
                    self.choose(other.id)
                control, alt = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier
                what = "scale" if modifiers & control else "turn" if modifiers & alt else "whole"
                self._begin(what, place, other)
                self.desk.choice_changed.emit()
                return
        self.choose(None)
        self.desk.choice_changed.emit()

    def _press_on(
        self, viewer: object, point: QPointF, place: Point, shape: Shape, modifiers: Qt.KeyboardModifier
    ) -> bool:
        """A handle or a point of the chosen shape, if one is there."""
        key = shape.key_at(self.desk.frame)
        for k in self.points_chosen:
            for side, end in enumerate(self._handle_ends(viewer, shape, key, k)):
                if near(point, end):
                    self._begin(f"handle {side}", place, shape, k)
                    return True
        for k, (x, y) in enumerate(self._seen(shape, key.points)):
            if near(point, viewer.to_widget(x, y)):
                if modifiers & Qt.KeyboardModifier.ShiftModifier:
                    self.points_chosen = self.points_chosen ^ {k}
                elif k not in self.points_chosen:
                    self.points_chosen = frozenset({k})
                self._begin("points", place, shape)
                self.desk.choice_changed.emit()
                return True
        return False

    def _begin(self, what: str, place: Point, shape: Shape, index: int = 0) -> None:
        self._drag = (what, self._own(shape, place), shape.key_at(self.desk.frame), index)
        self._gesture = new_gesture()

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self._hover = point if self.drawing else None
        shape = self._shape(self.chosen)
        if self._drag is None or shape is None:
            return
        what, start, key, index = self._drag
        place = self._own(shape, viewer.to_plate(point))
        dx, dy = place[0] - start[0], place[1] - start[1]
        if dx == 0 and dy == 0:
            return
        self.desk.set_dragging(True)
        points, handles = dragged(what, start, place, key, index, self.points_chosen)
        self._put(shape.moved(self.desk.frame, points, handles), say("Move {name}", name=shape.name), self._gesture)

    def release(self, viewer: object, point: QPointF) -> None:
        if self.drawing and self.drawing[1] in ("ellipse", "rectangle") and self.points:
            self._finish_box(viewer.to_plate(point))
            return
        self._drag = None
        self.desk.set_dragging(False)

    def double(self, viewer: object, point: QPointF) -> None:
        if self.drawing:
            self.finish()
            return
        shape = self._shape(self.chosen)
        if shape is None:
            return
        own = shape.points_at(self.desk.frame)
        for k, place in enumerate(self._seen(shape, own)):
            if near(point, viewer.to_widget(*place)):
                self.points_chosen = frozenset({k})
                self.toggle_corner()
                return
        line = self._line(viewer, shape)
        per = max(line.count() // len(own), 1)
        for k in range(line.count()):
            a, b = line[k], line[(k + 1) % line.count()]
            along = b - a
            length = QPointF.dotProduct(along, along)
            share = QPointF.dotProduct(point - a, along) / length if length else 0.0
            if 0 <= share <= 1 and near(point, a + along * share, 10):
                at = (k % per + share) / per
                self._put(
                    shape.with_point_inserted(k // per, min(max(at, 0.02), 0.98)),
                    say("New point in {name}", name=shape.name),
                )
                self.points_chosen = frozenset({k // per + 1})
                return

    def toggle_corner(self) -> None:
        """Makes the chosen points corners, or smooth where they are corners."""
        shape = self._shape(self.chosen)
        if shape is None or not self.points_chosen:
            self.desk.said.emit(say("Choose a point of the shape first."), True)
            return
        corner = not shape.is_corner(min(self.points_chosen))
        for k in sorted(self.points_chosen):
            shape = shape.with_corner(k, corner)
        self._put(shape, say("{how} in {name}", how=say("Corner") if corner else say("Smooth point"), name=shape.name))

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
        if shape is None:
            return False
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            left = len(shape.keys[0].points) - len(self.points_chosen)
            if self.points_chosen and left >= 3:
                for k in sorted(self.points_chosen, reverse=True):
                    shape = shape.with_point_removed(k)
                self._put(shape, say("Remove points of {name}", name=shape.name))
                self.points_chosen = frozenset()
            else:
                self.remove()
            return True
        return False

    def remove(self) -> None:
        """Removes the chosen shape."""
        shape = self._shape(self.chosen)
        if shape is None:
            return
        self.choose(None)
        self.put_all(tuple(s for s in self.shapes if s.id != shape.id), say("Remove {name}", name=shape.name))

    # --- drawing ---
    def finish(self) -> None:
        """Closes the shape being drawn."""
        drawing, points = self.drawing, self.points
        self.cancel()
        if drawing is None:
            return
        if len(points) < 3:
            self.desk.said.emit(
                say("A shape needs at least three points; this one has {count}.", count=len(points)), True
            )
            return
        self._add(drawing, ShapeKey(frame=self.desk.frame, points=tuple(points)))

    def _finish_box(self, end: Point) -> None:
        drawing, start = self.drawing, self.points[0]
        key = self._boxed(start, end)
        self.cancel()
        if drawing is None or abs(end[0] - start[0]) < 1 or abs(end[1] - start[1]) < 1:
            self.desk.said.emit(say("Drag a box for the shape; a click alone makes none."), True)
            return
        self._add(drawing, key)

    def _boxed(self, start: Point, end: Point) -> ShapeKey:
        assert self.drawing is not None
        make = ellipse_key if self.drawing[1] == "ellipse" else rectangle_key
        return make(self.desk.frame, start, end)

    def _add(self, drawing: tuple[str, str], key: ShapeKey) -> None:
        if self.desk.zone is None:
            return
        shape = _new_shape(drawing, self.desk.shot.new_id("shape"), self.new_name(drawing[0]), key)
        motion = self._motion(shape)
        if not np.allclose(motion, np.eye(3)):
            shape = shape.but(keys=(_carried(np.linalg.inv(motion), key, key.frame),))
        self.choose(shape.id)
        self.put_all((*self.shapes, shape), say("Draw {name}", name=shape.name))

    def magnified(self) -> tuple[float, float] | None:
        shape = self._shape(self.chosen)
        if self._drag is None or self._drag[0] != "points" or shape is None or self.point is None:
            return None
        return self._seen(shape, shape.points_at(self.desk.frame))[self.point]


def _new_shape(drawing: tuple[str, str], id: str, name: str, key: ShapeKey) -> Shape:
    mode, form = drawing
    kind = {"ellipse": "curve", "rectangle": "polygon"}.get(form, form)
    return Shape(id=id, name=name, mode=mode, form=kind, keys=(key,))


def _carried(way: np.ndarray, key: ShapeKey, frame: int) -> ShapeKey:
    """An outline through a homography, with its handles."""
    points = carry(way, np.array(key.points))
    handles = []
    for (x, y), h, (u, v) in zip(key.points, key.handles, points):
        ends = carry(way, np.array([[x + h[0], y + h[1]], [x + h[2], y + h[3]]])) - (u, v)
        handles.append(tuple(float(e) for e in ends.reshape(-1)))
    return ShapeKey(frame=frame, points=tuple(map(tuple, points.tolist())), handles=tuple(handles))
