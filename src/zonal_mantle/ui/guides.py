"""The frame that is composed for, over every view of the plate: crop, reframing, aspect."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen

from ..comp.finish_planner import crop_of, output_size, plate_aspect, window_of
from ..shot import Shot
from . import theme

SHADE = QColor(0, 0, 0, 120)


def framed(shot: Shot, frame: int) -> tuple[float, float, float, float] | None:
    """What is seen of the plate within its aspect, x0, y0, x1, y1 in plate pixels; None where that is all of it."""
    output = shot.finish.output
    if not shot.finish.on:
        return None
    x0, y0, x1, y1 = window_of(shot, frame)
    if output.aspect is not None:
        width, height = output_size(shot)
        own = output.pixel_aspect or plate_aspect(shot)
        wide, tall = x1 - x0, y1 - y0
        ratio = output.aspect / (width * own / height)  # of the aspect to that of the delivered frame
        if ratio > 1:
            y0, y1 = (y0 + y1 - tall / ratio) / 2, (y0 + y1 + tall / ratio) / 2
        else:
            x0, x1 = (x0 + x1 - wide * ratio) / 2, (x0 + x1 + wide * ratio) / 2
    whole = (0.0, 0.0, float(shot.size[0]), float(shot.size[1]))
    box = (x0, y0, x1, y1)
    return None if max(abs(a - b) for a, b in zip(box, whole)) < 0.01 else box


def paint_frame(painter: QPainter, viewer: object, shot: Shot, frame: int) -> None:
    """Shades what is not delivered, and draws the frame."""
    box = framed(shot, frame)
    if box is None:
        return
    inner = QRectF(viewer.to_widget(box[0], box[1]), viewer.to_widget(box[2], box[3]))
    outer = QRectF(viewer.to_widget(0, 0), viewer.to_widget(*shot.size))
    path = QPainterPath()
    path.addRect(outer.united(inner))
    hole = QPainterPath()
    hole.addRect(inner)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.fillPath(path.subtracted(hole), SHADE)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(QColor(theme.TEXT), 1, Qt.PenStyle.DashLine))
    painter.drawRect(inner)
    if crop_of(shot) != (0.0, 0.0, float(shot.size[0]), float(shot.size[1])):
        x0, y0, x1, y1 = crop_of(shot)
        painter.setPen(QPen(QColor(theme.DIM), 1, Qt.PenStyle.DotLine))
        painter.drawRect(QRectF(QPointF(viewer.to_widget(x0, y0)), QPointF(viewer.to_widget(x1, y1))))
    painter.restore()
