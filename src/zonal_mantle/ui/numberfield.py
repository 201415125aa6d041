"""A number that can be dragged, typed, stepped with the wheel or the arrow keys, keyed, and reset."""

from __future__ import annotations

import contextlib
import math

from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QLineEdit, QMenu, QSizePolicy, QWidget

from ..words import marks, say
from . import theme
from .desk import new_gesture
from .guard import guarded

KEY_PX = 15  # room for the ring of a keyable number
LEAST_BOX_PX, BARE_PX = 46, 50
UNITS = marks("stops")  # that are words
NOTCH = 120  # what a wheel says of one notch, in eighths of a degree (Qt)


@guarded
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
        self.label, self.low, self.high, self.step, self.default = say(label), low, high, step, default
        self.decimals, self.unit, self.keyable = decimals, say(unit), keyable
        self.value = default
        self.bare = bare
        self.words_at_zero = ""  # shown in its place where 0 stands for something else
        self.keyed = self.key_here = False
        self._press: QPoint | None = None
        self._start = 0.0
        self._gesture = ""
        self._moved = False
        self._editor: QLineEdit | None = None
        self._turned = 0  # what a wheel has turned since the last whole notch
        self.setToolTip(say(tip))
        self.setAccessibleName(self.label)
        self.setAccessibleDescription(self.text())
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(20)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.SizeHorCursor)

    def set_value(self, value: float, keyed: bool = False, key_here: bool = False) -> None:
        """Shows a value without telling anybody."""
        if (value, keyed, key_here) != (self.value, self.keyed, self.key_here):
            self.value, self.keyed, self.key_here = value, keyed, key_here
            self.setAccessibleDescription(self.text())
            self.update()

    def text(self) -> str:
        """The value as it is shown."""
        if self.value == 0 and self.words_at_zero:
            return say(self.words_at_zero)
        return f"{self.value:.{self.decimals}f}{' ' + self.unit if self.unit else ''}"

    def _set(self, value: float, gesture: str) -> None:
        value = round(min(max(value, self.low), self.high), 6)
        if value != self.value:
            self.value = value
            self.setAccessibleDescription(self.text())
            self.update()
            self.changed.emit(value, gesture)

    # --- painting ---
    @property
    def _key_room(self) -> int:
        """Width of the ring at the left by which a number is keyed."""
        return KEY_PX if self.keyable else 0

    @property
    def _value_room(self) -> int:
        """Width of the box with the value: what the longest of its values needs."""
        if self.bare:
            return self.width() - self._key_room
        ends = (f"{end:.{self.decimals}f}" for end in (self.low, self.high) if abs(end) < 1e5)
        longest = max((*ends, "0" * (self.decimals + 4)), key=len)
        words = longest + (f" {self.unit}" if self.unit else "")
        texts = (words, say(self.words_at_zero)) if self.words_at_zero else (words,)
        return max(*(self.fontMetrics().horizontalAdvance(text) + 14 for text in texts), LEAST_BOX_PX)

    def sizeHint(self) -> QSize:
        if self.bare:
            return QSize(BARE_PX, 20)
        return QSize(self._key_room + self.fontMetrics().horizontalAdvance(self.label) + 6 + self._value_room, 20)

    def minimumSizeHint(self) -> QSize:
        return QSize(BARE_PX, 20) if self.bare else self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        on = self.isEnabled()
        if self.keyable:
            self._paint_key(painter)
        words = QRectF(self._key_room + 1, 0, self.width() - self._value_room - self._key_room - 5, self.height() - 1)
        if not self.bare:
            painter.setPen(QColor(theme.TEXT if self.hasFocus() else theme.DIM if on else "#7a7a7a"))
            shown = painter.fontMetrics().elidedText(self.label, Qt.TextElideMode.ElideRight, int(words.width()) + 1)
            painter.drawText(words, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, shown)
        box = QRectF(self.width() - self._value_room + 0.5, 0.5, self._value_room - 1, self.height() - 2)
        painter.setPen(QColor(theme.ACCENT if self.hasFocus() else theme.LINE))
        painter.setBrush(QColor(theme.GROUND if on else theme.PANEL))
        painter.drawRoundedRect(box, 3, 3)
        if self.high - self.low < 1e5 and on:  # where the value lies between its ends: a notch in the lower rim
            share = (self.value - self.low) / (self.high - self.low)
            painter.fillRect(
                QRectF(box.left() + 2 + share * (box.width() - 6), box.bottom() - 2, 3, 3), QColor("#5d8f80")
            )
        painter.setPen(QColor(theme.TEXT if on else "#7a7a7a"))
        values = box.adjusted(6, 0, -6, 0)
        painter.drawText(values, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self.text())

    def _paint_key(self, painter: QPainter) -> None:
        """A ring: empty where the value is constant, dotted where it is keyed elsewhere, full where keyed here."""
        middle = QPointF(KEY_PX / 2 - 1, self.height() / 2 - 0.5)
        painter.setPen(QPen(QColor(theme.ACCENT if self.keyed else "#7a7a7a"), 1.2))
        painter.setBrush(QColor(theme.ACCENT) if self.key_here else Qt.BrushStyle.NoBrush)
        painter.drawEllipse(middle, 3.6, 3.6)
        if self.keyed and not self.key_here:
            painter.setBrush(QColor(theme.ACCENT))
            painter.drawEllipse(middle, 0.9, 0.9)

    # --- hands ---
    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            if self.keyable and event.position().x() < KEY_PX:
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
        turned = event.angleDelta().y()  # sideways turns are for scrolling; touch-pads send small parts of a notch
        self._turned = self._turned + turned if self._turned * turned >= 0 else turned
        notches = int(self._turned / NOTCH)
        self._turned -= notches * NOTCH
        if notches:
            self._step(notches, event.modifiers())
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
            value = float(editor.text().replace(",", "."))
            if math.isfinite(value):
                self._set(value, new_gesture())
        editor.deleteLater()
        self.setFocus()

    def contextMenuEvent(self, event: object) -> None:
        menu = QMenu(self)
        menu.addAction(
            say("Reset to {default}", default=f"{self.default:.{self.decimals}f}"),
            lambda: self._set(self.default, new_gesture()),
        )
        menu.addAction(say("Type a value…"), self._type)
        if self.keyable:
            menu.addAction(
                say("Remove key here") if self.key_here else say("Key here"),
                lambda: self.key_wanted.emit(not self.key_here),
            )
        menu.exec(event.globalPos())
