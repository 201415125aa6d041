"""What is done on the picture in the Lock stage: marks, fields, the quad, points of the scene."""

from __future__ import annotations

import math

import cv2
import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QBrush, QColor, QKeyEvent, QPainter, QPen, QPolygonF

from ...geometry import camera_matrix
from ...shot import Lock
from ...words import say
from .. import theme
from ..desk import Desk
from .base import Tool, label, near, outline_pen
from .field import FieldTool
from .mark import MarkTool

LABEL_HIGH = 22  # px on the screen
GOOD_PX = 0.6  # a point drawn at full size is off by this


class LockTool(Tool):
    """Marks for a point lock, a field for the others; the quad for all; points for a camera lock."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.marks, self.field = MarkTool(desk), FieldTool(desk)
        self.points_chosen: list[int] = []

    @property
    def part(self) -> Tool:
        """Marks or field, as the chosen lock wants."""
        lock = self.desk.lock
        return self.marks if lock is None or lock.kind == "point" else self.field

    @property
    def cursor(self) -> Qt.CursorShape:  # type: ignore[override]
        return self.part.cursor

    @property
    def hint(self) -> str:  # type: ignore[override]
        lock = self.desk.lock
        if lock is not None and lock.kind == "by hand":
            return "Nothing is measured: key position, turn and size of this lock under Correct."
        if lock is not None and lock.kind == "camera" and lock.points:
            return "Click points of the scene (three carry a card); they are coloured by zone and sized by their error."
        return self.part.hint

    def cancel(self) -> None:
        """Drops what is being drawn."""
        self.field.cancel()

    # --- painting ---
    def paint(self, painter: QPainter, viewer: object) -> None:
        lock = self.desk.solving.seen(self.desk.lock)
        if lock is None or lock.kind == "by hand":
            return
        if lock.kind == "point":
            self.marks.paint(painter, viewer)
            return
        self._paint_left_out(painter, viewer, lock)
        self.field.paint(painter, viewer)
        if lock.quad is not None:
            self.marks._paint_quad(painter, viewer, lock)
        if lock.kind == "camera":
            self._paint_points(painter, viewer, lock)
        if self.desk.frame != lock.reference_frame and not lock.solved and lock.field:
            label(
                painter,
                QPointF(12, 20),
                say(
                    "The field was drawn on frame {reference_frame}: a solve starts there",
                    reference_frame=lock.reference_frame,
                ),
            )

    def paint_playing(self, painter: QPainter, viewer: object) -> None:
        lock = self.desk.lock
        if lock is None:
            return
        if lock.quad is not None and lock.kind != "by hand":
            self.marks._paint_quad(painter, viewer, lock)
        if lock.kind != "point":
            self.field.paint_playing(painter, viewer)

    def _paint_left_out(self, painter: QPainter, viewer: object, lock: Lock) -> None:
        """What the last solve left out by itself."""
        painter.setBrush(QBrush(QColor(theme.WARN), Qt.BrushStyle.BDiagPattern))
        for k, outline in enumerate(lock.left_out):
            shape = QPolygonF([viewer.to_widget(x, y) for x, y in outline])
            for pen in outline_pen(theme.WARN, dashed=True):
                painter.setPen(pen)
                painter.drawPolygon(shape)
            if k == 0:
                box = shape.boundingRect()
                beside = box.top() - 6 if box.top() > LABEL_HIGH else box.bottom() + LABEL_HIGH - 6
                label(painter, QPointF(max(box.left(), 0) + 4, beside), "Left out: does not move with the picture")
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def places(self, lock: Lock) -> np.ndarray:
        """Where the points of the scene are on this frame, (n, 2); NaN behind the lens."""
        entry = lock.nearest(self.desk.frame)
        if entry is None or entry.rotation is None or not lock.points:
            return np.zeros((0, 2))
        return project(lock, entry, np.array([point.place for point in lock.points]), self.desk.shot.size)

    def _paint_points(self, painter: QPainter, viewer: object, lock: Lock) -> None:
        zones = [zone for zone in self.desk.shot.zones if zone.distance_m is not None]
        for k, (x, y) in enumerate(self.places(lock)):
            if not np.isfinite([x, y]).all():
                continue
            point = lock.points[k]
            depth = max(point.place[2], 1e-3)
            apart = [abs(math.log(depth / (zone.distance_m or 1e6))) for zone in zones]
            index = self.desk.shot.zones.index(zones[int(np.argmin(apart))]) if zones else 0
            at, size = viewer.to_widget(x, y), 1.5 + 4 * min(point.error_px / GOOD_PX, 1.5)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for pen in outline_pen(theme.zone_colour(index).name(), width=1.3):
                painter.setPen(pen)
                painter.drawEllipse(at, size, size)
            if k in self.points_chosen:
                painter.setPen(QPen(QColor(theme.TEXT), 1.4))
                painter.drawRect(int(at.x()) - 7, int(at.y()) - 7, 14, 14)
                label(
                    painter,
                    at + QPointF(10, 4),
                    f"{depth:.1f} m" if lock.in_metres else say("{depth:.1f} units (not scaled)", depth=depth),
                )
        if len(self.points_chosen) == 3:
            self._paint_card(painter, viewer, lock)

    def _paint_card(self, painter: QPainter, viewer: object, lock: Lock) -> None:
        """A card with a small figure, standing on the plane of three points."""
        entry = lock.nearest(self.desk.frame)
        chosen = [k for k in self.points_chosen if k < len(lock.points)]
        if entry is None or len(chosen) != 3:
            return
        a, b, c = (np.array(lock.points[k].place) for k in chosen)
        normal = np.cross(b - a, c - a)
        if np.linalg.norm(normal) < 1e-9:
            return
        middle, u = (a + b + c) / 3, (b - a) / max(float(np.linalg.norm(b - a)), 1e-9)
        v = np.cross(normal / np.linalg.norm(normal), u)
        sides = [float(np.linalg.norm(p - q)) for p, q in ((a, b), (b, c), (c, a))]
        half = 0.3 * min(sides)
        lines = []
        for t in np.linspace(-1, 1, 5):
            lines += [(middle + half * (t * u - v), middle + half * (t * u + v))]
            lines += [(middle + half * (t * v - u), middle + half * (t * v + u))]
        up = normal / np.linalg.norm(normal)
        up = -up if up[1] > 0 else up
        lines += [(middle, middle + half * up)]
        for pen in outline_pen("#e6c35c"):
            painter.setPen(pen)
            for start, end in lines:
                p, q = project(lock, entry, np.array([start, end]), self.desk.shot.size)
                if np.isfinite([*p, *q]).all():
                    painter.drawLine(viewer.to_widget(*p), viewer.to_widget(*q))
        head = project(lock, entry, np.array([middle + half * up]), self.desk.shot.size)[0]
        if np.isfinite(head).all():
            painter.drawPolygon(QPolygonF([viewer.to_widget(*head) + QPointF(x, y) for x, y in _HEAD]))

    # --- hands ---
    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        lock = self.desk.lock
        if lock is not None and lock.kind != "point":
            if self.marks.press_quad(viewer, point, lock):
                return
            if lock.kind == "camera" and not self.field.drawing and self._press_point(viewer, point, lock):
                return
        self.part.press(viewer, point, modifiers)

    def _press_point(self, viewer: object, point: QPointF, lock: Lock) -> bool:
        for k, (x, y) in enumerate(self.places(lock)):
            if np.isfinite([x, y]).all() and near(point, viewer.to_widget(x, y), 7):
                if k in self.points_chosen:
                    self.points_chosen.remove(k)
                else:
                    self.points_chosen = [*self.points_chosen[-2:], k]
                self.desk.choice_changed.emit()
                return True
        return False

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        tool = self.marks if self.marks.holds_quad else self.part
        tool.move(viewer, point, modifiers)

    def release(self, viewer: object, point: QPointF) -> None:
        tool = self.marks if self.marks.holds_quad else self.part
        tool.release(viewer, point)

    def double(self, viewer: object, point: QPointF) -> None:
        self.part.double(viewer, point)

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        return self.part.key(viewer, event)

    def magnified(self) -> tuple[float, float] | None:
        return self.marks.magnified() if self.marks.holds_quad else self.part.magnified()


_HEAD = [(5 * math.cos(k * math.pi / 4), 5 * math.sin(k * math.pi / 4)) for k in range(8)]


def project(lock: Lock, entry: object, places: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """Places of the scene (n, 3) on a frame, (n, 2) plate pixels; NaN behind the lens."""
    turn = cv2.Rodrigues(np.array(entry.rotation))[0]
    local = (places - np.array(entry.position or (0, 0, 0))) @ turn.T @ camera_matrix(lock.lens.focal_px, size).T
    with np.errstate(divide="ignore", invalid="ignore"):
        out = local[:, :2] / local[:, 2:]
    out[local[:, 2] <= 1e-6] = np.nan
    return out
