"""A number that can be dragged, typed, stepped with the wheel or the arrow keys, keyed, and set back."""

from __future__ import annotations

import contextlib

from PySide6.QtCore import QEvent, QPoint, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QLineEdit, QMenu, QSizePolicy, QWidget

from . import theme
from .desk import new_gesture


class NumberField(QWidget):
    """A labelled number.

    `changed` carries the value and the gesture it belongs to; `key_wanted` asks to add or remove a key on this frame.
    """

    changed = Signal(float, str)
    gesture = Signal(bool)
    key_wanted = Signal(bool)

    def __init__(
        self,
        label: str,
        low: float,
        high: float,
        step: float,
        default: float,
        decimals: int = 2,
        unit: str = "",
        tip: str = "",
        keyable: bool = False,
        bare: bool = False,
    ) -> None:
        super().__init__()
        self.label, self.low, self.high, self.step, self.default = label, low, high, step, default
        self.decimals, self.unit, self.keyable = decimals, unit, keyable
        self.value = default
        self.bare = bare
        self.words_at_zero = ""  # shown in its place where 0 stands for something else
        self.keyed = self.key_here = False
        self._press: QPoint | None = None
        self._start = 0.0
        self._gesture = ""
        self._moved = False
        self._editor: QLineEdit | None = None
        self.setToolTip(tip)
        self.setAccessibleName(label)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(20)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.SizeHorCursor)

    def set_value(self, value: float, keyed: bool = False, key_here: bool = False) -> None:
        """Shows a value without telling anybody."""
        if (value, keyed, key_here) != (self.value, self.keyed, self.key_here):
            self.value, self.keyed, self.key_here = value, keyed, key_here
            self.update()

    def text(self) -> str:
        """The value as it is shown."""
        if self.value == 0 and self.words_at_zero:
            return self.words_at_zero
        return f"{self.value:.{self.decimals}f}{' ' + self.unit if self.unit else ''}"

    def _set(self, value: float, gesture: str) -> None:
        value = round(min(max(value, self.low), self.high), 6)
        if value != self.value:
            self.value = value
            self.update()
            self.changed.emit(value, gesture)

    # --- painting ---
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -1.5)
        painter.setPen(QColor(theme.ACCENT if self.hasFocus() else theme.LINE))
        painter.setBrush(QColor(theme.RAISED if self.isEnabled() else theme.PANEL))
        painter.drawRect(box)
        if self.high - self.low < 1e5 and self.isEnabled():
            share = (self.value - self.low) / (self.high - self.low)
            zero = (min(max(0.0, self.low), self.high) - self.low) / (self.high - self.low)
            a, b = sorted((share, zero))
            painter.fillRect(
                QRectF(1 + a * (box.width() - 1), box.bottom() - 2, (b - a) * (box.width() - 1), 2), QColor("#5d8f80")
            )
        right = box.right() - 6
        if self.keyable:
            x, y = box.right() - 9, box.center().y()
            diamond = QPolygonF(
                [
                    QPoint(int(x), int(y - 4)),
                    QPoint(int(x + 4), int(y)),
                    QPoint(int(x), int(y + 4)),
                    QPoint(int(x - 4), int(y)),
                ]
            )
            painter.setPen(QColor(theme.ACCENT if self.keyed else "#6a6a6a"))
            painter.setBrush(QColor(theme.ACCENT) if self.key_here else Qt.BrushStyle.NoBrush)
            painter.drawPolygon(diamond)
            right = x - 9
        painter.setPen(QColor(theme.DIM if self.isEnabled() else "#6e6e6e"))
        if not self.bare:
            painter.drawText(
                box.adjusted(6, 0, 0, -1), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, self.label
            )
        painter.setPen(QColor(theme.TEXT if self.isEnabled() else "#7a7a7a"))
        values = QRectF(box.left(), box.top(), right - box.left(), box.height() - 1)
        painter.drawText(values, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self.text())

    # --- hands ---
    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            if self.keyable and event.position().x() > self.width() - 18:
                self.key_wanted.emit(not self.key_here)
                return
            self._press, self._start, self._moved = event.position().toPoint(), self.value, False
            self._gesture = new_gesture()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None:
            return
        way = event.position().x() - self._press.x()
        if not self._moved and abs(way) < 3:
            return
        if not self._moved:
            self._moved = True
            self.gesture.emit(True)
        fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        self._set(self._start + way * self.step * fine, self._gesture)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._press is None:
            return
        self._press = None
        if self._moved:
            self.gesture.emit(False)
        else:
            self.setFocus()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._type()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if not self.hasFocus():
            event.ignore()
            return
        self._step(1 if event.angleDelta().y() > 0 else -1, event.modifiers())
        event.accept()

    def event(self, event: QEvent) -> bool:
        """Digits typed here are numbers, not the window's shortcuts."""
        if event.type() == QEvent.Type.ShortcutOverride and event.text() and event.text() in "0123456789.,-+":
            event.accept()
            return True
        return bool(super().event(event))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._step(1 if key == Qt.Key.Key_Up else -1, event.modifiers())
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._type()
        elif key == Qt.Key.Key_Backspace:
            self._set(self.default, new_gesture())
        elif event.text() and event.text() in "0123456789.-+":
            self._type(event.text())
        else:
            super().keyPressEvent(event)

    def _step(self, way: int, modifiers: Qt.KeyboardModifier) -> None:
        fine = 0.1 if modifiers & Qt.KeyboardModifier.ShiftModifier else 1.0
        self._set(self.value + way * self.step * fine, new_gesture())

    def _type(self, first: str = "") -> None:
        editor = QLineEdit(self)
        editor.setText(first or f"{self.value:.{max(self.decimals, 3)}f}".rstrip("0").rstrip("."))
        editor.setGeometry(self.rect())
        editor.setAlignment(Qt.AlignmentFlag.AlignRight)
        if not first:
            editor.selectAll()
        editor.editingFinished.connect(self._typed)
        self._editor = editor
        editor.show()
        editor.setFocus()

    def _typed(self) -> None:
        editor, self._editor = self._editor, None
        if editor is None:
            return
        with contextlib.suppress(ValueError):  # what is not a number leaves the value as it was
            self._set(float(editor.text().replace(",", ".")), new_gesture())
        editor.deleteLater()
        self.setFocus()

    def contextMenuEvent(self, event: object) -> None:
        menu = QMenu(self)
        menu.addAction(f"Set back to {self.default:.{self.decimals}f}", lambda: self._set(self.default, new_gesture()))
        menu.addAction("Type a value…", self._type)
        if self.keyable:
            menu.addAction(
                "Remove key here" if self.key_here else "Key here", lambda: self.key_wanted.emit(not self.key_here)
            )
        menu.exec(event.globalPos())
