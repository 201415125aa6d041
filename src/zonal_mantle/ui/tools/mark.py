"""Setting and judging marks, and the quad of a lock."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen, QPolygonF

from ...geometry import carry
from ...place import reference_to_frame
from ...shot import UNSOLVED, Lock, Mark
from ...words import say
from .. import theme
from ..desk import Desk, new_gesture
from .base import Tool, handle, label, near, outline_pen

MOST_MARKS = 64


class MarkTool(Tool):
    """Marks with patch and reach, on the reference frame; the lock's quad on any frame."""

    cursor = Qt.CursorShape.CrossCursor
    hint = (
        "Click to set marks, drag them, or the corners of patch (inner) and reach (outer). On another "
        "frame a mark takes "
        "over. Delete removes one."
    )

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.chosen: int | None = None
        self._drag: tuple[str, int] | None = None
        self._gesture = ""
        self._start: tuple[float, float] = (0, 0)

    # --- painting ---
    def paint(self, painter: QPainter, viewer: object) -> None:
        lock = self.desk.solving.seen(self.desk.lock)
        if lock is None:
            return
        if lock.quad is not None:
            self._paint_quad(painter, viewer, lock)
        here = self.desk.frame == lock.reference_frame
        entry = lock.at(self.desk.frame)
        self._paint_trails(painter, viewer, lock)
        for k, mark in enumerate(lock.marks):
            place = entry.marks[k] if entry is not None and k < len(entry.marks) else None
            if self._is_set_here(lock, mark):
                self._paint_mark(painter, viewer, mark, k)
            elif place is not None:
                self._paint_found(painter, viewer.to_widget(*place), entry.confidence)
        if not here and lock.marks:
            words = say(
                "Marks were set on frame {reference_frame}: a solve starts there", reference_frame=lock.reference_frame
            )
            label(painter, QPointF(12, 20), words)

    def _is_set_here(self, lock: Lock, mark: Mark) -> bool:
        return (mark.frame if mark.frame is not None else lock.reference_frame) == self.desk.frame

    def _boxes(self, viewer: object, mark: Mark) -> tuple[QRectF, QRectF]:
        def box(rx: float, ry: float) -> QRectF:
            return QRectF(viewer.to_widget(mark.x - rx, mark.y - ry), viewer.to_widget(mark.x + rx, mark.y + ry))

        (px, py), (rx, ry) = mark.patch, mark.reach
        return box(px, py), box(px + rx, py + ry)

    def _paint_mark(self, painter: QPainter, viewer: object, mark: Mark, k: int) -> None:
        patch, reach = self._boxes(viewer, mark)
        at = viewer.to_widget(mark.x, mark.y)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in outline_pen(theme.ACCENT):
            painter.setPen(pen)
            painter.drawRect(patch)
        for pen in outline_pen("#b8b8b8", dashed=True, width=1.0):
            painter.setPen(pen)
            painter.drawRect(reach)
        for pen in outline_pen(theme.ACCENT if k == self.chosen else theme.TEXT):
            painter.setPen(pen)
            painter.drawLine(at + QPointF(-5, 0), at + QPointF(5, 0))
            painter.drawLine(at + QPointF(0, -5), at + QPointF(0, 5))
        handle(painter, patch.bottomRight(), colour=theme.ACCENT, size=2.5)
        handle(painter, reach.bottomRight(), colour="#b8b8b8", size=2.5)
        label(painter, reach.topLeft() + QPointF(2, -4), say("Mark {number}", number=k + 1))

    def _paint_found(self, painter: QPainter, at: QPointF, confidence: float) -> None:
        for pen in outline_pen(theme.ACCENT if confidence > 0.8 else theme.WARN):
            painter.setPen(pen)
            painter.drawLine(at + QPointF(-7, 0), at + QPointF(7, 0))
            painter.drawLine(at + QPointF(0, -7), at + QPointF(0, 7))

    def _paint_trails(self, painter: QPainter, viewer: object, lock: Lock) -> None:
        near_frames = [e for e in lock.solved if abs(e.frame - self.desk.frame) <= 12]
        painter.setPen(QPen(QColor(111, 183, 160, 150), 1))
        for k in range(len(lock.marks)):
            places = [viewer.to_widget(*e.marks[k]) for e in near_frames if k < len(e.marks) and e.marks[k] is not None]
            if len(places) > 1 and not self.desk.held_still:
                painter.drawPolyline(QPolygonF(places))

    def _quad_points(self, lock: Lock) -> np.ndarray:
        assert lock.quad is not None
        return carry(reference_to_frame(self.desk.solving.shot, lock.id, self.desk.frame), np.array(lock.quad))

    def _paint_quad(self, painter: QPainter, viewer: object, lock: Lock) -> None:
        a, b, c, d = (viewer.to_widget(x, y) for x, y in self._quad_points(lock))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in outline_pen("#e6c35c"):
            painter.setPen(pen)
            painter.drawPolygon(QPolygonF([a, b, c, d]))
        painter.setPen(QPen(QColor(230, 195, 92, 170), 1))
        for k in range(1, 4):
            t = k / 4
            painter.drawLine(a + (b - a) * t, d + (c - d) * t)
            painter.drawLine(a + (d - a) * t, b + (c - b) * t)
        for place in (a, b, c, d):
            handle(painter, place, colour="#e6c35c", size=3)

    # --- hands ---
    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        lock = self.desk.lock
        if lock is None:
            self.desk.said.emit(say("There is no lock yet. Choose New point lock in the Lock stage."), True)
            return
        if self.press_quad(viewer, point, lock):
            return
        for k, mark in enumerate(lock.marks):
            if not self._is_set_here(lock, mark):
                continue
            patch, reach = self._boxes(viewer, mark)
            centre = viewer.to_widget(mark.x, mark.y)
            for what, at in (("patch", patch.bottomRight()), ("reach", reach.bottomRight())):
                if near(point, at) and not near(point, centre, (at - centre).manhattanLength() / 4):
                    self._drag, self.chosen = (what, k), k
                    return
            if patch.contains(point):
                self._drag, self.chosen = ("mark", k), k
                return
        if len(lock.marks) >= MOST_MARKS:
            self.desk.said.emit(
                say(
                    "{name} has {most_marks} marks, which is the most it can have.",
                    name=lock.name,
                    most_marks=MOST_MARKS,
                ),
                True,
            )
            return
        self._add(lock, self._start)

    @property
    def holds_quad(self) -> bool:
        """Whether a corner of the quad is being dragged."""
        return self._drag is not None and self._drag[0] == "quad"

    def press_quad(self, viewer: object, point: QPointF, lock: Lock) -> bool:
        """Takes hold of a corner of the quad, if one is there."""
        self._gesture, self._start = new_gesture(), viewer.to_plate(point)
        if lock.quad is not None:
            for k, (x, y) in enumerate(self._quad_points(lock)):
                if near(point, viewer.to_widget(x, y)):
                    self._drag = ("quad", k)
                    return True
        return False

    def _add(self, lock: Lock, place: tuple[float, float]) -> None:
        unit = max(self.desk.shot.size[0] / 1280, 0.25)
        mark = Mark(x=place[0], y=place[1], patch=(14 * unit, 12 * unit), reach=(20 * unit, 20 * unit))
        reference = lock.reference_frame if lock.marks else self.desk.frame
        if self.desk.frame != reference:
            mark = mark.but(frame=self.desk.frame)  # takes over from here
            if lock.at(self.desk.frame) is None:
                words = say(
                    "{name} is not solved up to frame {frame}: no mark can take over there yet.",
                    name=lock.name,
                    frame=self.desk.frame,
                )
                self.desk.said.emit(words, True)
                return
        self.chosen = len(lock.marks)
        self._drag = ("mark", self.chosen)
        self._put(
            lock.but(marks=(*lock.marks, mark), reference_frame=reference),
            say("Set mark {chosen}", chosen=self.chosen + 1),
        )

    def _put(self, lock: Lock, label: str) -> None:
        """A lock whose marks changed is no longer solved; one that gets a mark to take over keeps what it has."""
        old = self.desk.lock
        more = old is not None and lock.marks[: len(old.marks)] == old.marks and lock.marks[-1:] != old.marks[-1:]
        if more and lock.marks[-1].frame is not None:
            self.desk.edit_lock(lock, label, self._gesture)
        else:
            self.desk.edit_lock(lock.but(**UNSOLVED), label, self._gesture)

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        lock = self.desk.lock
        if self._drag is None or lock is None:
            return
        what, k = self._drag
        x, y = viewer.to_plate(point)
        if what == "quad":
            back = carry(
                np.linalg.inv(reference_to_frame(self.desk.shot, lock.id, self.desk.frame)), np.array([[x, y]])
            )[0]
            quad = list(lock.quad or ())
            quad[k] = (float(back[0]), float(back[1]))
            self.desk.edit_lock(lock.but(quad=tuple(quad)), "Move the quad", self._gesture)
            return
        mark = lock.marks[k]
        if what == "mark":
            dx, dy = x - self._start[0], y - self._start[1]
            self._start = (x, y)
            if dx == 0 and dy == 0:
                return
            new = mark.but(x=mark.x + dx, y=mark.y + dy)
        elif what == "patch":
            new = mark.but(patch=(max(3.0, x - mark.x), max(3.0, y - mark.y)))
        else:
            new = mark.but(reach=(max(3.0, x - mark.x - mark.patch[0]), max(3.0, y - mark.y - mark.patch[1])))
        marks = tuple(new if j == k else m for j, m in enumerate(lock.marks))
        self._put(
            lock.but(marks=marks),
            say("Move mark {number}", number=k + 1) if what == "mark" else say("Resize mark {number}", number=k + 1),
        )

    def release(self, viewer: object, point: QPointF) -> None:
        self._drag = None

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        lock = self.desk.lock
        if lock is None or event.key() not in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) or self.chosen is None:
            return False
        if self.chosen < len(lock.marks):
            marks = tuple(m for j, m in enumerate(lock.marks) if j != self.chosen)
            self._gesture = new_gesture()
            self._put(lock.but(marks=marks), say("Remove mark {chosen}", chosen=self.chosen + 1))
        self.chosen = None
        return True

    def magnified(self) -> tuple[float, float] | None:
        lock = self.desk.lock
        if self._drag is None or lock is None:
            return None
        what, k = self._drag
        if what == "mark" and k < len(lock.marks):
            return lock.marks[k].x, lock.marks[k].y
        if what == "quad" and lock.quad is not None:
            x, y = self._quad_points(lock)[k]
            return float(x), float(y)
        return None
