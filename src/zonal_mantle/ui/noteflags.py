"""Open notes with a place on the picture: a small flag each, and its words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter

from ..shot import Note
from .tools.base import label, outline_pen

if TYPE_CHECKING:
    from .viewer import Viewer

MOST_LETTERS = 48


def paint_notes(painter: QPainter, viewer: Viewer, notes: tuple[Note, ...], frame: int) -> None:
    """Those of a frame that are not done."""
    for note in notes:
        if note.place is None or note.done or note.frame != frame:
            continue
        at = viewer.to_widget(*note.place)
        for pen in outline_pen("#d8d8d8"):
            painter.setPen(pen)
            painter.drawLine(at, at + QPointF(0, -16))
        words = note.words if len(note.words) <= MOST_LETTERS else f"{note.words[:MOST_LETTERS]}…"
        label(painter, at + QPointF(4, -10), words)
