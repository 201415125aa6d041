"""A pointer that is moved by keys: whatever a mouse does on the picture, the section, the rail and curves can be done
without one."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QApplication, QLineEdit, QMainWindow, QPlainTextEdit, QWidget

from ..words import say
from . import theme
from .bench.curve_edit import CurveEdit
from .bench.tint_pad import TintPad
from .desk import Desk
from .guard import guarded
from .rail import Track
from .section import SectionView
from .viewer import Viewer

PAINTED = (Viewer, SectionView, Track, CurveEdit, TintPad)
STEP_PX, FAR_PX = 1, 10
WAYS: dict[Qt.Key, tuple[int, int]] = {
    Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)
}  # fmt: skip
ENTER = (Qt.Key.Key_Return, Qt.Key.Key_Enter)
DOUBLE, MENU, NEXT, ENDS = Qt.Key.Key_D, Qt.Key.Key_Menu, Qt.Key.Key_Tab, Qt.Key.Key_Escape
HINT = (
    "Arrows move the pointer (Shift: ten pixels), Enter presses and lets go, D is a double click, Tab goes to the next "
    "part, Escape ends."
)
LEFT, NONE = Qt.MouseButton.LeftButton, Qt.MouseButton.NoButton


@guarded
class _Cross(QWidget):
    """Where the pointer is; filled while it presses."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.presses = False
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setFixedSize(27, 27)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        middle = self.rect().center()
        for colour, width in ((QColor(0, 0, 0, 220), 3), (QColor(theme.ACCENT), 1)):
            painter.setPen(QPen(colour, width))
            for x, y in WAYS.values():
                painter.drawLine(middle + QPoint(4 * x, 4 * y), middle + QPoint(12 * x, 12 * y))
            if self.presses:
                painter.drawEllipse(middle, 5, 5)


@guarded
class KeyPointer(QObject):
    """On or off; while it is on, keys move it over the painted parts of a window and press there."""

    def __init__(self, window: QMainWindow, desk: Desk) -> None:
        super().__init__(window)
        self.window, self.desk = window, desk
        self.cross = _Cross(window)
        self.cross.hide()
        self.target: QWidget | None = None
        self.at = QPoint()
        self.pressed = False

    @property
    def is_on(self) -> bool:
        """Whether keys move it."""
        return self.target is not None

    def flip(self) -> None:
        """Switches it on, over the part that has the focus or the picture, or off."""
        if self.is_on:
            self._end()
            return
        parts = self._parts()
        if not parts or self.desk.shot.plate is None:
            self.desk.said.emit(say("There is nothing to point at yet. Open a plate first."), True)
            return
        focus = QApplication.focusWidget()
        self._go_to(focus if focus in parts else parts[0])
        app = QApplication.instance()
        if app is not None:
            app.installEventFilter(self)
        self.desk.said.emit(HINT, False)

    def _parts(self) -> list[QWidget]:
        """The painted parts that are seen: the picture first."""
        found = [part for part in self.window.findChildren(QWidget) if isinstance(part, PAINTED) and part.isVisible()]
        return sorted(found, key=lambda part: (PAINTED.index(type(part)), part.y()))

    def _go_to(self, part: QWidget) -> None:
        self.target, self.at = part, part.rect().center()
        part.setFocus(Qt.FocusReason.OtherFocusReason)
        self._show()

    def _show(self) -> None:
        if self.target is None:
            return
        self.cross.presses = self.pressed
        self.cross.move(self.target.mapTo(self.window, self.at) - self.cross.rect().center())
        self.cross.show()
        self.cross.raise_()
        self.cross.update()

    def _end(self) -> None:
        if self.pressed:
            self._send(QEvent.Type.MouseButtonRelease, Qt.KeyboardModifier.NoModifier)
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
        self.target, self.pressed = None, False
        self.cross.hide()

    def _send(self, kind: QEvent.Type, modifiers: Qt.KeyboardModifier) -> None:
        target = self.target
        if target is None:
            return
        button = NONE if kind == QEvent.Type.MouseMove else LEFT
        held = LEFT if self.pressed and kind != QEvent.Type.MouseButtonRelease else NONE
        place = QPointF(self.at)
        QApplication.sendEvent(target, QMouseEvent(kind, place, target.mapToGlobal(place), button, held, modifiers))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() not in (QEvent.Type.KeyPress, QEvent.Type.ShortcutOverride) or not self._listens(watched):
            return False
        assert isinstance(event, QKeyEvent)
        key = Qt.Key(event.key())
        if key not in (*WAYS, *ENTER, DOUBLE, MENU, NEXT, ENDS):
            return False
        if event.type() == QEvent.Type.ShortcutOverride:
            event.accept()  # it is ours, whatever else the key does
            return True
        self._key(key, event.modifiers())
        return True

    def _listens(self, watched: QObject) -> bool:
        if self.target is None:
            return False
        if not self.target.isVisible():
            self._end()
            return False
        if QApplication.activePopupWidget() is not None or QApplication.activeModalWidget() is not None:
            return False
        typed = isinstance(watched, QLineEdit | QPlainTextEdit)
        return isinstance(watched, QWidget) and watched.window() is self.window and not typed

    def _key(self, key: Qt.Key, modifiers: Qt.KeyboardModifier) -> None:
        target = self.target
        if target is None:
            return
        plain = Qt.KeyboardModifier.NoModifier
        if key in WAYS:
            step = FAR_PX if modifiers & Qt.KeyboardModifier.ShiftModifier else STEP_PX
            (dx, dy), inside = WAYS[key], target.rect()
            self.at = QPoint(
                min(max(self.at.x() + step * dx, inside.left()), inside.right()),
                min(max(self.at.y() + step * dy, inside.top()), inside.bottom()),
            )
            self._send(QEvent.Type.MouseMove, plain)
        elif key in ENTER:
            self.pressed = not self.pressed
            self._send(QEvent.Type.MouseButtonPress if self.pressed else QEvent.Type.MouseButtonRelease, modifiers)
        elif key == DOUBLE:
            for kind in (QEvent.Type.MouseButtonDblClick, QEvent.Type.MouseButtonRelease):
                self._send(kind, modifiers)
        elif key == MENU:
            place = target.mapToGlobal(self.at)
            QApplication.sendEvent(target, QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, self.at, place))
        elif key == NEXT and not self.pressed:
            parts = self._parts()
            self._go_to(parts[(parts.index(target) + 1) % len(parts)] if target in parts else parts[0])
        elif key == ENDS:
            self._end()
        self._show()
