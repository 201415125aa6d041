"""Handles of the open part of the finish: shapes of local lights, the line of a tone, the middle of a vignette."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeyEvent, QPainter

from ...words import say
from .. import theme
from ..desk import Desk
from .base import Tool, outline_pen
from .line import LineTool
from .local import LocalTool

CROSS_PX = 9.0


class FinishTool(Tool):
    """Hands on to the tool of the part that is open."""

    def __init__(self, desk: Desk, local: LocalTool, lines: LineTool) -> None:
        super().__init__(desk)
        self.local, self.lines = local, lines

    @property
    def _now(self) -> Tool:
        if self.lines.armed:
            return self.lines
        return self.local if self.desk.finish_part == "Local" else _NO_TOOL

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What the next gesture does."""
        if self.local.drawing is not None:
            return self.local.words()
        return self._now.hint

    def cancel(self) -> None:
        """Forgets what was begun."""
        self.local.cancel()
        self.lines.cancel()

    def paint(self, painter: QPainter, viewer: object) -> None:
        if self.desk.view == "Delivery":
            return
        if self._now is not _NO_TOOL:
            self._now.paint(painter, viewer)
        vignette = self.desk.shot.finish.vignette
        if self.desk.finish_part == "Vignette" and vignette.on:
            width, height = self.desk.shot.size
            at = viewer.to_widget(vignette.centre[0] * width, vignette.centre[1] * height)
            for pen in outline_pen(theme.ACCENT):
                painter.setPen(pen)
                painter.drawLine(at - QPointF(CROSS_PX, 0), at + QPointF(CROSS_PX, 0))
                painter.drawLine(at - QPointF(0, CROSS_PX), at + QPointF(0, CROSS_PX))

    def press(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        if self._acts(viewer):
            self._now.press(viewer, point, modifiers)

    def move(self, viewer: object, point: QPointF, modifiers: Qt.KeyboardModifier) -> None:
        self._now.move(viewer, point, modifiers)

    def release(self, viewer: object, point: QPointF) -> None:
        self._now.release(viewer, point)

    def double(self, viewer: object, point: QPointF) -> None:
        if self._acts(viewer):
            self._now.double(viewer, point)

    def key(self, viewer: object, event: QKeyEvent) -> bool:
        return self._now.key(viewer, event)

    def magnified(self) -> tuple[float, float] | None:
        return self._now.magnified()

    def _acts(self, viewer: object) -> bool:
        """Whether places on the screen are places of the plate."""
        if self.desk.view == "Delivery" and self._now is not _NO_TOOL:
            self.desk.said.emit(
                say("The delivered frame is only looked at. Choose Finished to draw on the picture."), True
            )
            return False
        return True


class _None(Tool):
    def __init__(self) -> None:
        pass


_NO_TOOL = _None()
